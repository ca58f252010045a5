import {
  failed,
  type FieldType,
  good,
  isBlank,
  normalise,
  type Outcome,
  type Present,
  type Raw,
  rawEqual,
  sameShared,
  type Shared,
  showRaw,
} from '../record/index.js';
import { decimalOf, numberText } from '../record/index.js';
import { type StepLens, textOf } from './step.js';

export type Direction = 'from' | 'to' | 'both ways';

/**
 * A mapping between a member's field and a shared field (a symmetric lens: Foster et al. 2007, Combinators for
 * bidirectional tree transformations; Hofmann, Pierce and Wagner 2011, Symmetric lenses).
 *
 * Laws, for every mapping that can be read: `inbound(outbound(v, raw), v) = v` and
 * `outbound(inbound(raw, a), raw) = raw`. The second holds because a raw value that already means the value is
 * returned as it is; the first because `outbound` reads its own result back and fails where it would mean something
 * else.
 */
export interface Lens {
  readonly reads: boolean;
  readonly writes: boolean;
  /** Whether a raw value can be told the meaning of, whatever the direction. */
  readonly canRead: boolean;
  /** What a raw value means, given the agreed value. Fails with the reason when it cannot be read. */
  inbound(raw: Raw, agreed: Shared | undefined): Outcome<Shared>;
  /** The raw value to write. Fails with the reason when the member cannot hold the value. */
  outbound(value: Shared, raw: Present): Outcome<Raw>;
  /** Whether the raw value already means the value. An absent raw value means nothing. */
  means(raw: Present, value: Shared): boolean;
}

export interface LensOptions {
  readonly type: FieldType;
  readonly direction: Direction;
  readonly steps: readonly StepLens[];
  /** What this system takes for empty; `null` unless it wants an empty text. */
  readonly blankAs: null | '';
}

export function makeLens({ type, direction, steps, blankAs }: LensOptions): Lens {
  // What a one-way step has written cannot be read back: whether it is there already is told by writing it again.
  const canRead = steps.every((step) => step.inbound && (direction === 'from' || !step.oneWay));
  const usesPresent = steps.some((step) => step.usesPresent);
  const usesHeld = steps.some((step) => step.usesHeld);
  const setsRawForm = steps.some((step) => step.setsRawForm);

  // A merge asks several times what the same value means. Without steps that look at what the other side holds, the
  // answer is the same.
  let last: { readonly raw: Raw; readonly outcome: Outcome<Shared> } | undefined;
  function inbound(raw: Raw, agreed: Shared | undefined): Outcome<Shared> {
    if (usesHeld || typeof raw === 'object') return readThrough(raw, agreed);
    if (last?.raw !== raw) last = { raw, outcome: readThrough(raw, agreed) };
    return last.outcome;
  }

  function readThrough(raw: Raw, agreed: Shared | undefined): Outcome<Shared> {
    const held = usesHeld && agreed !== undefined && agreed !== null ? heldAtEachStep(steps, agreed as Raw) : undefined;
    let value: Raw = isBlank(raw) ? null : raw;
    for (const [index, step] of steps.entries()) {
      if (value === null && !step.takesBlank) continue;
      if (!step.inbound) return failed('this mapping cannot be read');
      const next = step.inbound(value, held?.[index]);
      if (!next.ok) return next;
      value = isBlank(next.value) ? null : next.value;
    }
    return normalise(type, typeof value === 'object' && value !== null ? (numberText(value) ?? value) : value);
  }

  function fresh(value: Shared, raw: Present): Outcome<Raw> {
    let result: Raw = value as Raw;
    const present = usesPresent && raw !== undefined ? presentAtEachStep(steps, raw) : undefined;
    for (let index = steps.length - 1; index >= 0; index -= 1) {
      const step = steps[index] as StepLens;
      if (result === null && !step.takesBlank) continue;
      if (!step.outbound) return failed('this mapping cannot be written');
      const next = step.outbound(result, present?.[index]);
      if (!next.ok) return next;
      result = next.value;
    }
    if (result === null) return good(blankAs);
    return good(type === 'number' && !setsRawForm && typeof raw !== 'string' ? asNumber(result) : result);
  }

  function means(raw: Present, value: Shared): boolean {
    if (raw === undefined) return false;
    if (canRead) {
      const read = inbound(raw, value);
      return read.ok && sameShared(read.value, value);
    }
    const written = fresh(value, raw);
    return written.ok && alike(written.value, raw);
  }

  return {
    reads: direction !== 'to',
    writes: direction !== 'from',
    canRead,
    inbound,
    means,
    outbound(value, raw) {
      if (raw !== undefined && means(raw, value)) return good(raw);
      const written = fresh(value, raw);
      if (!written.ok || !canRead) return written;
      const back = inbound(written.value, value);
      if (!back.ok)
        return failed(`${showRaw(written.value, 60)} could not be read back: ${back.reason}`, back.waitsFor);
      if (sameShared(back.value, value)) return written;
      return failed(`cannot be held there: it would read back as ${showRaw(back.value as Raw, 60)}`);
    },
  };
}

/** What the shared side of each step holds now, as far as the agreed value can be taken towards the member. */
function heldAtEachStep(steps: readonly StepLens[], agreed: Raw): (Raw | undefined)[] {
  const held = new Array<Raw | undefined>(steps.length);
  let value: Raw | undefined = agreed;
  for (let index = steps.length - 1; index >= 0; index -= 1) {
    held[index] = value;
    const back: Outcome<Raw> | undefined =
      value === undefined || value === null ? undefined : steps[index]?.outbound?.(value);
    value = back?.ok ? back.value : undefined;
  }
  return held;
}

/** What the member side of each step holds now, as far as the raw value can be taken towards the shared one. */
function presentAtEachStep(steps: readonly StepLens[], raw: Raw): (Raw | undefined)[] {
  const present = new Array<Raw | undefined>(steps.length);
  let value: Raw | undefined = isBlank(raw) ? null : raw;
  for (const [index, step] of steps.entries()) {
    present[index] = value;
    const next: Outcome<Raw> | undefined =
      value === undefined || (value === null && !step.takesBlank) ? undefined : step.inbound?.(value, undefined);
    value = next?.ok ? next.value : value === null ? null : undefined;
  }
  return present;
}

function asNumber(value: Raw): Raw {
  const text = textOf(value);
  const decimal = text === undefined ? undefined : decimalOf(text);
  if (!decimal) return value;
  const plain = decimal.toNumber();
  return String(plain) === decimal.toString() ? plain : { $number: decimal.toString() };
}

/** Equality of raw values for mappings that only write: blanks alike, numbers by value. */
function alike(a: Raw, b: Raw): boolean {
  if (rawEqual(a, b) || (isBlank(a) && isBlank(b))) return true;
  const left = textOf(a);
  const right = textOf(b);
  if (left === undefined || right === undefined) return false;
  if (left === right) return true;
  const x = decimalOf(left);
  const y = decimalOf(right);
  return x !== undefined && y !== undefined && x.eq(y);
}
