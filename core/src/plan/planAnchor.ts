import type { CompiledField, CompiledKnot, CompiledMember } from '../definition/index.js';
import {
  type Agreed,
  type Anchor,
  type AnchorMerge,
  type Cause,
  isEdited,
  type Problem,
  problemOf,
  type Tie,
} from '../merge/index.js';
import {
  anchorId,
  type FieldId,
  type Instant,
  isBlank,
  type MemberId,
  type Raw,
  rawEqual,
  writePath,
} from '../record/index.js';
import type {
  AnchorPlan,
  AskedDeletion,
  CreateOperation,
  FieldChange,
  Operation,
  UpdateOperation,
  Withheld,
} from './operation.js';
import { type LinkOf, planWriteBack } from './writeBack.js';

/** What keeps a plan from doing all that a merge would want. */
export interface PlanLimits {
  /** Members in which a doubt about a record is open, so that creating waits. */
  readonly blocked?: ReadonlySet<MemberId>;
  /**
   * Members that could not be read: while nobody knows whether the thing was edited there, nothing of it is removed.
   */
  readonly unread?: ReadonlySet<MemberId>;
  /** How many things refer to this one. */
  readonly referring?: number;
  /** For outcomes that are told with the address of a record. */
  readonly linkOf?: LinkOf;
}

const none: ReadonlySet<MemberId> = new Set();

/**
 * What is to be written for one anchor after its merge.
 * @param now decides what filters leave out that depend on the day
 */
export function planAnchor(
  knot: CompiledKnot,
  merge: AnchorMerge,
  now: Instant,
  { blocked = none, unread = none, referring = 0, linkOf = () => undefined }: PlanLimits = {},
): AnchorPlan {
  const operations: Operation[] = [];
  const withheld: Withheld[] = [];
  const problems: Problem[] = [];
  const { anchor } = merge;
  const alive = anchor.ties.some((tie) => !tie.gone && !tie.rejected);
  const removal = removalFrom(anchor) ?? removalWith(knot, anchor);
  const unreadHere = anchor.ties.filter(({ gone, member }) => !gone && unread.has(member)).map(({ member }) => member);
  for (const member of knot.members) {
    const tie = anchor.ties.find(({ member: of, end }) => of === member.id && end !== 'to be made anew');
    const isRemoved = removal && removal.kind !== 'ask' && !tie?.gone && !tie?.rejected && member.may[removal.kind];
    if (tie && isRemoved && unreadHere.length > 0)
      withheld.push({
        member: member.id,
        kind: 'waits',
        reason: `${unreadHere.join(', ')} must be read before anything is removed`,
      });
    else if (tie && isRemoved && !removal.tie && hasOpenEdits(anchor))
      withheld.push({
        member: member.id,
        kind: 'waits',
        reason: 'what it refers to is there no more; it is archived when its edits are settled',
      });
    else if (tie && isRemoved && removal.kind === 'delete' && referring > 0 && !member.deletesReferred)
      withheld.push({
        member: member.id,
        kind: 'waits',
        reason: `it is not deleted while something refers to it: ${referring} ${referring === 1 ? 'does' : 'do'}`,
      });
    else if (tie && isRemoved) planRemoval(anchor, removal, tie, { operations, withheld });
    else if (tie) planUpdate(knot, merge, member, tie, { operations, withheld });
    // What was deleted somewhere is not made anew elsewhere.
    else if (alive && !removal)
      planCreate(knot, merge, member, now, blocked.has(member.id), { operations, withheld, problems });
  }
  const asked = removal?.kind === 'ask' && removal.tie ? askedDeletions(knot, anchor, removal.tie) : [];
  const tellings = knot.members.flatMap((member) => {
    const tie = anchor.ties.find(({ member: of, gone }) => of === member.id && !gone);
    // A record that is written is told afterwards: the version that was read will not be there any more.
    if (!tie || !member.may.update || operations.some(({ member: of }) => of === member.id)) return [];
    const telling = planWriteBack(knot, merge, { operations, withheld, problems }, member, tie, { now, linkOf });
    return telling ? [telling] : [];
  });
  return { operations: [...operations, ...tellings], withheld, problems, asked };
}

interface Removal {
  readonly kind: 'archive' | 'delete' | 'ask';
  readonly why: Cause;
  /** The tie whose record was deleted; none where it follows from what it refers to. */
  readonly tie?: Tie | undefined;
}

/** What follows from a deletion: the strictest comes first, and a question before all. */
function removalFrom({ ties }: Anchor): Removal | undefined {
  for (const [end, kind] of [
    ['ask', 'ask'],
    ['delete others', 'delete'],
    ['archive others', 'archive'],
  ] as const) {
    const tie = ties.find((tie) => tie.gone && tie.end === end);
    if (tie) return { kind, tie, why: { kind: 'deleted', member: tie.member } };
  }
  return undefined;
}

/** What follows from a thing that is there no more, for what refers to it. */
function removalWith({ fields, references }: CompiledKnot, { agreed }: Anchor): Removal | undefined {
  const field = fields.find(({ id, archivedWith }) => {
    const thing = archivedWith ? agreed[id]?.value : undefined;
    return typeof thing === 'string' && references.isGone(anchorId(thing));
  });
  return field && { kind: 'archive', why: { kind: 'referred gone', field: field.id } };
}

/**
 * Whether somebody has edited something of it that is held, or cannot be read. What is as it was seen is no edit: the
 * name of a thing that is gone may not be known any more.
 */
function hasOpenEdits({ ties }: Anchor): boolean {
  return ties.some(
    ({ gone, ahead, seen }) => !gone && Object.entries(ahead).some(([field, { raw }]) => !rawEqual(raw, seen[field])),
  );
}

function planRemoval(
  anchor: Anchor,
  { kind, why }: Removal,
  tie: Tie,
  into: { operations: Operation[]; withheld: Withheld[] },
): void {
  if (kind === 'ask') return;
  const fingerprint = JSON.stringify([kind, tie.key, tie.version ?? null]);
  if (tie.parked?.fingerprint === fingerprint) {
    into.withheld.push({ member: tie.member, kind: 'parked', reason: tie.parked.words });
    return;
  }
  into.operations.push({
    kind,
    anchor: anchor.id,
    member: tie.member,
    key: tie.key,
    version: tie.version,
    changes: [],
    why,
    fingerprint,
  });
}

function askedDeletions(knot: CompiledKnot, { ties }: Anchor, { member, key }: Tie): AskedDeletion[] {
  const others = ties
    .filter(({ gone }) => !gone)
    .map((tie) => {
      const { may } = knot.member(tie.member);
      return { member: tie.member, key: tie.key, archive: may.archive === true, delete: may.delete === true };
    });
  return others.length === 0 ? [] : [{ member, key, others }];
}

function planUpdate(
  knot: CompiledKnot,
  merge: AnchorMerge,
  member: CompiledMember,
  tie: Tie,
  into: { operations: Operation[]; withheld: Withheld[] },
): void {
  const changes = merge.writes
    .filter(({ member: of }) => of === member.id)
    .map((write): FieldChange =>
      change(
        fieldOf(knot, write.field),
        member.id,
        merge.anchor.agreed[write.field] as Agreed,
        write.before,
        write.after,
      ),
    );
  if (changes.length === 0 || tie.gone || tie.rejected) return;
  if (!member.may.update) {
    into.withheld.push({ member: member.id, kind: 'not allowed', reason: 'records may not be updated there' });
    return;
  }
  const fingerprint = JSON.stringify(changes.map(({ path, before, after }) => [path, before, after]));
  if (tie.parked?.fingerprint === fingerprint) {
    into.withheld.push({ member: member.id, kind: 'parked', reason: tie.parked.words });
    return;
  }
  const update: UpdateOperation = {
    kind: 'update',
    anchor: merge.anchor.id,
    member: member.id,
    key: tie.key,
    version: tie.version,
    changes,
    fingerprint,
  };
  into.operations.push(update);
}

function planCreate(
  knot: CompiledKnot,
  merge: AnchorMerge,
  member: CompiledMember,
  now: Instant,
  isBlocked: boolean,
  into: { operations: Operation[]; withheld: Withheld[]; problems: Problem[] },
): void {
  if (!member.may.create) return;
  const { anchor } = merge;
  // Adopted things stay as they are until somebody edits.
  if (knot.start === 'adopt' && !Object.values(anchor.agreed).some(isEdited)) return;
  const { changes, problems } = newRecord(knot, anchor, member);
  if (changes.length === 0) return;
  // A thing that began elsewhere is not this member's business.
  if (member.onlyFrom && !member.onlyFrom.some((id) => anchor.beganIn.includes(id))) return;
  const record = changes.reduce<Record<string, Raw>>((fields, { path, after }) => writePath(fields, path, after), {});
  const withhold = (kind: Withheld['kind'], reason: string): void =>
    void into.withheld.push({ member: member.id, kind, reason });

  const missing = member.required.filter(
    (path) => !changes.some((change) => change.path === path && !isBlank(change.after)),
  );
  const heldFields = new Set(merge.held.map(({ field }) => field));
  const isUnsettled = ({ id }: CompiledField): boolean =>
    heldFields.has(id) || (!anchor.agreed[id] && anchor.ties.some(({ seen }) => !isBlank(seen[id] ?? null)));
  const waitingFor = missing.flatMap((path) =>
    knot.fields.filter((field) => field.mappings.get(member.id)?.field === path && isUnsettled(field)),
  );
  // What it refers to cannot be told there, or cannot be told at all yet. What it stands under is made first.
  const untold = [...merge.problems, ...problems].filter(({ kind }) => kind === 'waiting');
  const waitingForThings = knot.fields.filter(
    ({ id, mappings, levels }) =>
      untold.some(({ field }) => field === id) && (levels || missing.includes(mappings.get(member.id)?.field ?? '')),
  );
  if (waitingForThings.length > 0) {
    into.problems.push(...problems.filter(({ kind }) => kind === 'waiting'));
    const names = waitingForThings.map(({ name }) => name).join(', ');
    return withhold('waits', `${names}: what it refers to must be there first`);
  }
  if (waitingFor.length > 0)
    return withhold('waits', `${waitingFor.map(({ name }) => name).join(', ')} must be settled first`);
  if (missing.length > 0)
    return withhold('cannot be created', `${missing.join(', ')} is required there and has no value`);
  const takesPart = knot.takesPart(member.id, record, now);
  if (!takesPart.ok) return withhold('cannot be created', `the filter of this member fails on it: ${takesPart.reason}`);
  // A record that the filter leaves out is simply not this member's business.
  if (!takesPart.value) return;
  const fingerprint = JSON.stringify(changes.map(({ path, after }) => [path, after]));
  const parked = anchor.parkedCreates[member.id];
  if (parked?.fingerprint === fingerprint) return withhold('parked', parked.words);
  // It stays open, so that it is created as soon as that is settled.
  if (isBlocked) return withhold('waits', 'it is not settled yet whether a record there is the same thing');
  into.problems.push(...problems);
  // The one that was there before is gone, and is no answer to a creation that is repeated.
  const parted = anchor.ties.find((tie) => tie.member === member.id)?.key ?? anchor.parted?.[member.id];
  const create: CreateOperation = {
    kind: 'create',
    anchor: anchor.id,
    member: member.id,
    changes,
    carries: member.carries,
    ...(parted === undefined ? {} : { parted }),
    fingerprint,
  };
  into.operations.push(create);
}

/** The record as it would be: every agreed value that this member can be given and can hold. */
function newRecord(
  knot: CompiledKnot,
  anchor: Anchor,
  member: CompiledMember,
): { changes: FieldChange[]; problems: Problem[] } {
  const changes: FieldChange[] = [];
  const problems: Problem[] = [];
  for (const field of knot.fields) {
    const mapping = field.mappings.get(member.id);
    const agreed = anchor.agreed[field.id];
    if (!mapping?.lens.writes || !agreed || agreed.value === null) continue;
    const raw = mapping.lens.outbound(agreed.value, undefined);
    if (raw.ok) changes.push(change(field, member.id, agreed, undefined, raw.value));
    else problems.push(problemOf({ member: member.id, field: field.id, raw: undefined }, 'unwritable', raw));
  }
  return { changes, problems };
}

function change(
  field: CompiledField,
  member: MemberId,
  agreed: Agreed,
  before: Raw | undefined,
  after: Raw,
): FieldChange {
  const path = field.mappings.get(member)?.field as string;
  return { field: field.id, path, before, after, meaning: agreed.value, by: agreed.by, why: agreed.why };
}

function fieldOf(knot: CompiledKnot, id: FieldId): CompiledField {
  const field = knot.fields.find((field) => field.id === id);
  if (!field) throw new Error(`no shared field ${id}`);
  return field;
}
