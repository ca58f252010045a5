import type { Lens } from '../mapping/index.js';
import { type Instant, type Outcome, type Raw, sameShared, type Shared } from '../record/index.js';
import type { Ahead } from './anchor.js';
import type { FieldMergeInput, FieldTie } from './fieldMerge.js';

export interface Edit {
  readonly from: FieldTie;
  readonly value: Shared;
  /** What the member's value was before; `undefined` for a newcomer. */
  readonly before: Shared | undefined;
  readonly at: Instant;
  readonly behind: boolean;
}

export interface Read {
  readonly tie: FieldTie;
  readonly value: Shared;
}

/** Step 1 and 2: whether a tie has an edit, and whether that edit was made without knowing the agreed value. */
export function editOf(input: FieldMergeInput, { tie, value }: Read): Edit | undefined {
  const agreed = input.agreed?.value;
  const seen = tie.tie.seen[input.field];
  const before = seen === undefined ? undefined : tie.lens.inbound(seen, agreed);
  const newcomer = before === undefined;
  if (newcomer && input.adopt) return undefined;
  if (!isEdit(value, before, agreed)) return undefined;
  const noticed = noticedBefore(input, tie);
  const behind = !before?.ok || (tie.lens.writes && agreed !== undefined && !tie.lens.means(seen, agreed));
  return {
    from: tie,
    value: behind ? readAlone(tie.lens, tie.present as Raw, value) : value,
    before: !before?.ok ? undefined : behind ? readAlone(tie.lens, seen as Raw, before.value) : before.value,
    at: noticed ? (noticed.modifiedAt ?? noticed.noticedAt) : (tie.modifiedAt ?? input.now),
    behind,
  };
}

/** @param before what the value was; `undefined` for a newcomer */
function isEdit(value: Shared, before: Outcome<Shared> | undefined, agreed: Shared | undefined): boolean {
  if (!before) return value !== null && !sameShared(value, agreed);
  // What could not be read and now can be was changed, and be it to a blank.
  return !before.ok || !sameShared(value, before.value);
}

/**
 * What an edit says that was made without knowing the agreed value: read with it, a narrow member's value would be
 * completed with a rest that never belonged to it (`Oakridge N`, cut at ten, and `Fernhill Gardens` would make
 * `Oakridge Nrdens`).
 */
function readAlone(lens: Lens, raw: Raw, value: Shared): Shared {
  const alone = lens.inbound(raw, undefined);
  return alone.ok ? alone.value : value;
}

/** When this edit was first noticed. A value that could not be read was no edit yet. */
function noticedBefore(
  { field, agreed }: FieldMergeInput,
  { tie, lens }: Pick<FieldTie, 'tie' | 'lens'>,
): Ahead | undefined {
  const ahead = tie.ahead[field];
  return ahead && lens.reads && lens.inbound(ahead.raw, agreed?.value).ok ? ahead : undefined;
}

export function stayAhead(input: FieldMergeInput, { tie, lens, present, modifiedAt }: FieldTie): Ahead {
  const known = noticedBefore(input, { tie, lens });
  return {
    raw: present as Raw,
    noticedAt: known?.noticedAt ?? input.now,
    modifiedAt: known ? known.modifiedAt : modifiedAt,
  };
}
