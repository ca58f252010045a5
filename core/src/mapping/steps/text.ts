import { failed, good, type Outcome, type Raw } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';

function asText(value: Raw, then: (text: string) => Raw): Outcome<Raw> {
  const text = textOf(value);
  return text === undefined ? failed('is not a text') : good(then(text));
}

export const trimLens: StepLens = {
  inbound: (value) => asText(value, (text) => text.trim()),
  outbound: good,
};

/**
 * `side: shared` makes the shared value that case; `side: member` says that the member keeps everything in that case.
 */
export function caseLens(step: Extract<Step, { kind: 'case' }>): StepLens {
  const fold = step.form === 'upper' ? (text: string) => text.toUpperCase() : (text: string) => text.toLowerCase();
  if (step.side === 'shared') return { inbound: (value) => asText(value, fold), outbound: good };
  return {
    usesHeld: true,
    inbound: (value, held) => asText(value, (text) => (typeof held === 'string' && fold(held) === text ? held : text)),
    outbound: (value) => asText(value, fold),
  };
}

/**
 * The member has room for `length` characters. What it shows of a longer value still means the whole value;
 * an edit inside the part that fits keeps the rest.
 */
export function cutLens(step: Extract<Step, { kind: 'cut' }>): StepLens {
  const mark = step.ellipsis ? '…' : '';
  const cut = (text: string): string => {
    const characters = [...text];
    return characters.length <= step.length
      ? text
      : characters
          .slice(0, step.length - mark.length)
          .join('')
          .trimEnd() + mark;
  };
  const restOf = (whole: string): string | undefined => {
    const characters = [...whole];
    return characters.length <= step.length ? undefined : characters.slice(step.length - mark.length).join('');
  };
  return {
    usesHeld: true,
    inbound: (value, held) =>
      asText(value, (text) => {
        if (typeof held !== 'string') return text;
        // Blanks at the ends never belong to a value, and must not move what fits.
        const shown = text.trim();
        if (cut(held).trim() === shown) return held;
        const rest = restOf(held);
        if (rest === undefined || !shown.endsWith(mark)) return text;
        const whole = (shown.slice(0, shown.length - mark.length) + rest).normalize('NFC');
        // Only when the longer text still shows as what is there; otherwise somebody shortened it on purpose.
        return cut(whole).trim() === shown ? whole : text;
      }),
    outbound: (value) => asText(value, cut),
  };
}

/** A list kept as one text with separators. */
export function listLens({ separator }: Extract<Step, { kind: 'list' }>): StepLens {
  return {
    inbound: (value) => {
      if (Array.isArray(value)) return good(value);
      return asText(value, (text) =>
        text
          .split(separator)
          .map((item) => item.trim())
          .filter((item) => item !== ''),
      );
    },
    outbound: (value) => {
      const items = Array.isArray(value) ? (value as readonly string[]) : [String(value)];
      const clash = items.find((item) => item.includes(separator));
      return clash === undefined
        ? good(items.join(separator))
        : failed(`“${clash}” contains the separator “${separator}”`);
    },
  };
}

/** The member's text is filled up to a length, as in `000417`. Values that are longer stay as they are. */
export function padLens(step: Extract<Step, { kind: 'pad' }>): StepLens {
  const fill = (text: string): string =>
    step.side === 'start' ? text.padStart(step.length, step.with) : text.padEnd(step.length, step.with);
  const strip = (text: string): string => {
    let [from, to] = [0, text.length];
    // One character stays, so that 0000 is a number still.
    while (step.side === 'start' && from < to - 1 && text.startsWith(step.with, from)) from += step.with.length;
    while (step.side === 'end' && to > from + 1 && text.endsWith(step.with, to)) to -= step.with.length;
    return text.slice(from, to);
  };
  return {
    usesHeld: true,
    inbound: (value, held) =>
      asText(value, (text) => (typeof held === 'string' && fill(held) === text.trim() ? held : strip(text.trim()))),
    outbound: (value) => asText(value, fill),
  };
}

/** Each occurrence of a text in the member is another one in the shared value, and back. */
export function replaceLens({ find, by }: Extract<Step, { kind: 'replace' }>): StepLens {
  const toMember = (text: string): string => (by === '' ? text : text.replaceAll(by, () => find));
  return {
    usesHeld: true,
    inbound: (value, held) =>
      asText(value, (text) =>
        typeof held === 'string' && toMember(held) === text ? held : text.replaceAll(find, () => by),
      ),
    outbound: (value) => asText(value, toMember),
  };
}
