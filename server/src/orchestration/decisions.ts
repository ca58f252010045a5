import {
  type AnchorId,
  type AnchorMerge,
  type AnchorPlan,
  type CompiledKnot,
  type GuardBreach,
  heldFingerprint,
  type MatchDoubt,
  type Operation,
  type Problem,
  type RecordKey,
  type RecordName,
  type Score,
  showRaw,
  type Wanted,
  withoutValues,
} from '@anchor-knot/core';
import type { Intent, OutsideRecord } from './stored.js';
import type { DecisionDraft } from './decisionDraft.js';

const fieldName = (knot: CompiledKnot, id: string): string => knot.fields.find((field) => field.id === id)?.name ?? id;

/** Everything about one anchor that waits for a person. `systemName` gives the name of a member's system. */
export function decisionsOfAnchor(
  knot: CompiledKnot,
  systemName: (member: string) => string,
  merge: AnchorMerge,
  plan: AnchorPlan,
): DecisionDraft[] {
  const anchor = merge.anchor.id;
  const held = merge.held.map((one): DecisionDraft => ({
    kind: 'held',
    anchor,
    field: one.field,
    fingerprint: heldFingerprint(one),
    says: one.isCircle
      ? `${fieldName(knot, one.field)}: it would stand under itself. Move one of them in its system, or choose here.`
      : `${fieldName(knot, one.field)} was given differently, and ${one.reason}. Choose the value that ` +
        'shall be agreed.',
    detail: { base: one.base ?? null, candidates: one.candidates, isCircle: one.isCircle ?? false },
  }));
  const problems = [...merge.problems, ...plan.problems].map((problem) =>
    decisionOfProblem(knot, systemName, anchor, problem),
  );
  const rejected = merge.anchor.ties
    .filter((tie) => tie.rejected && !tie.gone)
    .map((tie): DecisionDraft => ({
      kind: 'rejected',
      anchor,
      member: tie.member,
      key: tie.key,
      fingerprint: (tie.rejected ?? []).join('|'),
      reason: (tie.rejected ?? []).join('; '),
      says:
        `Record ${tie.key} in ${systemName(tie.member)} is rejected: ${(tie.rejected ?? []).join('; ')}. ` +
        'Correct it there; until then it neither gives nor receives.',
      detail: { reasons: tie.rejected ?? [] },
    }));
  const withheld = plan.withheld.flatMap((one): DecisionDraft[] => {
    if (one.kind === 'parked') {
      return [decisionOfRefusal(systemName, { anchor, member: one.member, kind: 'update' }, one.reason)];
    }
    if (one.kind === 'cannot be created') {
      return [
        {
          kind: 'cannot be created',
          anchor,
          member: one.member,
          fingerprint: one.reason,
          reason: one.reason,
          says: `It cannot be created in ${systemName(one.member)}: ${one.reason}. Fill it in another system.`,
          detail: {},
        },
      ];
    }
    return [];
  });
  const untold = merge.anchor.ties.flatMap(({ member, gone, outcomes }) =>
    Object.values(outcomes ?? {}).flatMap(({ told }) =>
      told?.refused === undefined || gone
        ? []
        : [decisionOfRefusal(systemName, { anchor, member, kind: 'write back' }, told.refused)],
    ),
  );
  const deleted = plan.asked.map(({ member, key, others }): DecisionDraft => {
    const there = others.map((other) => `${other.key} in ${systemName(other.member)}`).join(', ');
    return {
      kind: 'deleted elsewhere',
      anchor,
      member,
      key,
      fingerprint: JSON.stringify([key, others.map((other) => [other.member, other.key])]),
      says:
        `Record ${key} was deleted in ${systemName(member)}, and the thing is still there: ${there}. Say ` +
        'what shall become of it.',
      detail: { others },
    };
  });
  return [...held, ...problems, ...rejected, ...withheld, ...untold, ...deleted];
}

function decisionOfProblem(
  knot: CompiledKnot,
  systemName: (member: string) => string,
  anchor: AnchorId,
  { kind, member, field, raw, reason, waitsFor }: Problem,
): DecisionDraft {
  const name = fieldName(knot, field);
  const draft = { anchor, member, field, reason: withoutValues(reason), fingerprint: `${showRaw(raw)}|${reason}` };
  switch (kind) {
    case 'unreadable':
      return {
        ...draft,
        kind,
        says:
          `${name} in ${systemName(member)} cannot be read: ${reason}. Correct it there; until then it is neither ` +
          'read nor overwritten.',
        detail: { raw: raw ?? null },
      };
    case 'unwritable':
      return {
        ...draft,
        kind,
        says: `${name} cannot be written to ${systemName(member)}: ${reason}. Change the value, or the translation.`,
        detail: { raw: raw ?? null },
      };
    case 'waiting': {
      const wanted = waitsFor as Wanted;
      const [value, thing] = 'value' in wanted ? [wanted.value, null] : [null, wanted.anchor];
      return {
        ...draft,
        kind,
        says: waitingWords(name, systemName(member), { value, knotName: null, title: null }),
        // What these are called now is told when it is looked at.
        detail: { knot: wanted.knot, by: wanted.by, value, thing, knotName: '', title: null, list: null },
      };
    }
    default:
      throw new Error(`unknown problem ${JSON.stringify(kind satisfies never)}`);
  }
}

/**
 * What is said of a reference that waits.
 * @param names what the knot and the thing are called, where that is known
 */
export function waitingWords(
  field: string,
  system: string,
  {
    value,
    knotName,
    title,
  }: { readonly value: string | null; readonly knotName: string | null; readonly title: string | null },
): string {
  const there = knotName === null ? 'among the things that it refers to' : `in ${knotName}`;
  if (value !== null)
    return (
      `${field} in ${system} waits: nothing ${there} is known by “${value}” yet. ` + 'It goes by itself when it is.'
    );
  const thing = title === null ? 'what it refers to' : `${title}, ${there},`;
  return (
    `${field} waits: ${thing} has no record yet by which ${system} could be told of it. ` +
    'It goes by itself when there is one.'
  );
}

export function decisionOfRefusal(
  systemName: (member: string) => string,
  { anchor, member, kind }: Pick<Operation, 'anchor' | 'member' | 'kind'>,
  words: string,
): DecisionDraft {
  const [what, again] =
    kind === 'write back'
      ? ['what it was told of other systems', 'there is something else to tell']
      : ['what was to be written', 'the record or the agreed value changes'];
  return {
    kind: 'refused',
    anchor,
    member,
    fingerprint: words,
    reason: words,
    says: `${systemName(member)} refused ${what}: ${words}. It is tried again when ${again}, or when you ask.`,
    detail: {},
  };
}

export function decisionOfUnclear(systemName: (member: string) => string, { operation, id }: Intent): DecisionDraft {
  return {
    kind: 'unclear write',
    anchor: operation.anchor,
    member: operation.member,
    fingerprint: id,
    reason: 'nobody can tell whether it was created',
    says:
      `Nobody can tell whether a record was created in ${systemName(operation.member)}: the connection ` +
      'broke, and it cannot be searched for. Look there; if it is not there, have it created again.',
    detail: { intent: id },
  };
}

/** Of a run that stopped before it wrote, and of listings that are too short to be believed. */
export function decisionsOfGuards(
  systemName: (member: string) => string,
  breaches: readonly GuardBreach[],
  shortListings: readonly GuardBreach[],
): DecisionDraft[] {
  const stopped = breaches.map(({ member, says }): DecisionDraft => ({
    kind: 'guard',
    member,
    fingerprint: says,
    says:
      `In ${systemName(member)} ${says}. Nothing was written. Look at a dry run, then ` +
      'let this run pass, or change the guard.',
    detail: {},
  }));
  const doubted = shortListings.map(({ member, says }): DecisionDraft => ({
    kind: 'guard',
    member,
    fingerprint: says,
    says:
      `In ${systemName(member)} ${says}. Nothing follows from it until you say so. Look whether ` +
      'they were deleted there, and then let a run go over the guards.',
    detail: {},
  }));
  return [...stopped, ...doubted];
}

/** How two records were compared: the score taken apart, and what both have for each part. */
export type ExplainPair = (
  a: RecordName,
  b: RecordName,
) =>
  | (Score & {
      readonly texts: readonly {
        readonly fields: readonly string[];
        readonly a: string | null;
        readonly b: string | null;
      }[];
    })
  | undefined;

/** Decisions about records that belong to no anchor. */
export function decisionsOfMatching(
  systemName: (member: string) => string,
  doubts: readonly MatchDoubt[],
  rejected: readonly OutsideRecord[],
  explain: ExplainPair = () => undefined,
): DecisionDraft[] {
  const ofRejected = rejected.map((record): DecisionDraft => ({
    kind: 'rejected',
    member: record.member,
    key: record.key,
    fingerprint: (record.reading.rejected ?? []).join('|'),
    reason: (record.reading.rejected ?? []).join('; '),
    says:
      `Record ${record.key} in ${systemName(record.member)} is rejected: ` +
      `${(record.reading.rejected ?? []).join('; ')}. Correct it there; until then it neither gives nor receives.`,
    detail: { reasons: record.reading.rejected ?? [] },
  }));
  return [...doubts.map((doubt) => decisionOfDoubt(systemName, doubt, explain)), ...ofRejected];
}

function decisionOfDoubt(
  systemName: (member: string) => string,
  doubt: MatchDoubt,
  explain: ExplainPair,
): DecisionDraft {
  switch (doubt.kind) {
    case 'duplicate': {
      const all = [...(doubt.tiedKey === undefined ? [] : [doubt.tiedKey]), ...doubt.keys];
      const alike =
        doubt.rule === undefined
          ? 'seem to be the same thing'
          : `have the same ${doubt.rule.toLowerCase()} “${(doubt.value ?? '').replaceAll('\u001f', ', ')}”`;
      const who =
        all.length > 1
          ? `${all.length} records of ${systemName(doubt.member)} ${alike}: ${all.join(', ')}.`
          : `Record ${all.join()} of ${systemName(doubt.member)} is like a thing that has another record there.`;
      const member = doubt.member;
      const scores = all
        .slice(1)
        .map((key) => ({ key, score: explain({ member, key: all[0] as RecordKey }, { member, key }) ?? null }));
      return {
        kind: 'duplicate',
        member,
        key: doubt.keys[0],
        anchor: doubt.anchor,
        fingerprint: JSON.stringify([doubt.value ?? null, all.toSorted()]),
        says: `${who} Say which one is to be kept the same; the others are set aside.`,
        detail: {
          value: doubt.value ?? null,
          rule: doubt.rule ?? null,
          keys: doubt.keys,
          tiedKey: doubt.tiedKey ?? null,
          scores,
        },
      };
    }
    case 'evidence': {
      const { member, key } = doubt;
      const candidates = doubt.candidates.map((candidate) => ({
        ...candidate,
        anchor: candidate.anchor ?? null,
        score: explain(candidate.with, { member, key }) ?? null,
      }));
      const [best] = candidates;
      const more = candidates.length > 2 ? `one of ${candidates.length - 1} others` : 'another one';
      const orAs = candidates.length > 1 ? `, or as ${more}` : '';
      const like = best ? `record ${best.with.key} in ${systemName(best.with.member)}` : 'another record';
      return {
        kind: 'unsure match',
        member,
        key,
        fingerprint: JSON.stringify([
          doubt.kind,
          candidates.map(({ with: other, score }) => [other.member, other.key, score?.bits ?? 0]),
        ]),
        says: `Record ${key} in ${systemName(member)} may be the same as ${like}${orAs}. Say whether it is.`,
        detail: { why: doubt.kind, candidates },
      };
    }
    case 'keys disagree':
    case 'several anchors':
      return {
        kind: 'unsure match',
        member: doubt.member,
        key: doubt.key,
        fingerprint: JSON.stringify([doubt.kind, doubt.anchors]),
        says:
          doubt.kind === 'keys disagree'
            ? `The keys of record ${doubt.key} in ${systemName(doubt.member)} lead to different things. Say ` +
              'which it is, or that it is a thing of its own.'
            : `The key of record ${doubt.key} in ${systemName(doubt.member)} belongs to several things. Say ` +
              'which it is, or that it is a thing of its own.',
        detail: {
          why: doubt.kind,
          candidates: doubt.anchors.map((anchor) => ({ anchor, records: [], with: null, score: null })),
        },
      };
    default:
      throw new Error(`unknown doubt ${JSON.stringify(doubt satisfies never)}`);
  }
}
