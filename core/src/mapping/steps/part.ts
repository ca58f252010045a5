import { failed, good, type Outcome, type Raw } from '../../record/index.js';
import { type Step, type StepLens, textOf, textThere } from '../step.js';

/**
 * A text put together from named parts, as `{street}, {town}`: names, and the fixed texts before, between and after
 * them.
 */
export interface Layout {
  readonly names: readonly string[];
  /** One more than there are names. */
  readonly fixed: readonly string[];
}

/** Reads a layout. Fails when it names no part, one part twice, or has two parts with nothing between them. */
export function readLayout(source: string): Outcome<Layout> {
  const names: string[] = [];
  const fixed: string[] = [];
  let from = 0;
  for (const match of source.matchAll(/\{([A-Za-z][A-Za-z0-9]*)\}/g)) {
    fixed.push(source.slice(from, match.index));
    names.push(match[1] as string);
    from = match.index + match[0].length;
  }
  fixed.push(source.slice(from));
  if (names.length === 0) return failed('the layout names no part: write one in braces, as {street}');
  const twice = names.find((name, index) => names.indexOf(name) !== index);
  if (twice !== undefined) return failed(`the layout names {${twice}} twice`);
  if (fixed.slice(1, -1).includes(''))
    return failed('two parts of the layout have nothing between them, so nobody can tell where one ends');
  return good({ names, fixed });
}

/** The parts of a text that is laid out so; each part ends where the next fixed text begins for the first time. */
function partsOf(text: string, { names, fixed }: Layout): string[] | undefined {
  const [first = ''] = fixed;
  const last = fixed.at(-1) ?? '';
  if (!text.startsWith(first) || !text.endsWith(last) || text.length < first.length + last.length) return undefined;
  const inner = text.slice(first.length, text.length - last.length);
  const parts: string[] = [];
  let from = 0;
  for (const [index] of names.entries()) {
    const next = index === names.length - 1 ? inner.length : inner.indexOf(fixed[index + 1] as string, from);
    if (next < 0) return undefined;
    parts.push(inner.slice(from, next));
    from = next + (fixed[index + 1] as string).length;
  }
  return parts;
}

const write = ({ fixed }: Layout, parts: readonly string[]): string =>
  fixed[0] + parts.map((part, index) => part + (fixed[index + 1] as string)).join('');

/** One part of a text of several. What is written goes into its place; the other parts stay as they are. */
export function partLens(step: Extract<Step, { kind: 'part' }>): Outcome<StepLens> {
  const read = readLayout(step.layout);
  if (!read.ok) return read;
  const layout = read.value;
  const at = layout.names.indexOf(step.part);
  if (at < 0) return failed(`the layout has no part {${step.part}}`);
  return good({
    takesBlank: true,
    usesPresent: true,
    inbound: (value: Raw) => {
      if (value === null) return good(null);
      const text = textOf(value);
      if (text === undefined) return failed('is not a text');
      const parts = partsOf(text.trim(), layout);
      return parts ? good(parts[at] as string) : failed(`“${text}” is not laid out as ${step.layout}`);
    },
    outbound: (value: Raw, present?: Raw) => {
      const there = textThere(present);
      if (value === null && there === '') return good(null);
      const parts = there === '' ? undefined : partsOf(there, layout);
      if (!parts && layout.names.length > 1)
        return failed(`the other parts of ${step.layout} are not there yet; a computed field can write the whole`);
      const text = value === null ? '' : String(value);
      return good(
        write(
          layout,
          (parts ?? ['']).map((part, index) => (index === at ? text : part)),
        ),
      );
    },
  });
}

/** A web link in the member; the shared value is the key in it, which is percent-encoded there (RFC 3986). */
export function linkLens({ address }: Extract<Step, { kind: 'link' }>): Outcome<StepLens> {
  const [before, after, more] = address.split('{key}');
  if (before === undefined || after === undefined || more !== undefined)
    return failed('the address has to hold {key} once');
  if (!/^https?:\/\/./.test(before)) return failed('the address has to begin with https:// or http://');
  return good({
    inbound: (value: Raw) => {
      const text = textOf(value)?.trim() ?? '';
      if (!text.startsWith(before) || !text.endsWith(after) || text.length <= before.length + after.length)
        return failed(`“${text}” is no link as ${address}`);
      try {
        return good(decodeURIComponent(text.slice(before.length, text.length - after.length)));
      } catch {
        return failed(`“${text}” is not percent-encoded as links are`);
      }
    },
    outbound: (value: Raw) => good(before + encodeURIComponent(String(value)) + after),
  });
}
