import { type CompiledKnot, type CompiledMember, type OutcomeFields, outcomePaths } from '../definition/index.js';
import {
  type AnchorMerge,
  type MemberOutcome,
  type OutcomeAccount,
  type Problem,
  type Tie,
  type Told,
  withoutValues,
} from '../merge/index.js';
import type { Instant, MemberId, Raw, RecordKey } from '../record/index.js';
import type { AnchorPlan, FieldChange, WriteBackOperation } from './operation.js';

/** The address of a record's page in its system, where it has such pages. */
export type LinkOf = (member: MemberId, key: RecordKey) => string | undefined;

/**
 * What a record is to be told of its thing in other members: what failed or waits as soon as it is known, and that all
 * is well after something was written there. What it knows already is not told again.
 * @param plan what is to be done in the other members; what is still to be written there has no outcome yet
 * @returns nothing where there is no news
 */
export function planWriteBack(
  knot: CompiledKnot,
  merge: AnchorMerge,
  plan: Pick<AnchorPlan, 'operations' | 'withheld' | 'problems'>,
  member: CompiledMember,
  tie: Tie,
  { now, linkOf }: { readonly now: Instant; readonly linkOf: LinkOf },
): WriteBackOperation | undefined {
  const news = (member.outcomes ?? []).flatMap((fields) => {
    const outcome = outcomeIn(knot, merge, plan, tie, fields.of);
    if (!outcome || !isNews(fields, outcome, tie.outcomes?.[fields.of])) return [];
    return [{ fields, told: { ...outcome, at: now } satisfies Told }];
  });
  if (news.length === 0) return undefined;
  return {
    kind: 'write back',
    anchor: merge.anchor.id,
    member: member.id,
    key: tie.key,
    version: tie.version,
    changes: news.flatMap(({ fields, told }) => changesOf(fields, told, linkOf)),
    outcomes: news.map(({ fields, told }) => ({ of: fields.of, told })),
  };
}

/**
 * How the thing of a record stands in a member.
 * @returns nothing where there is none and none is meant to be, and where that is only to be found out
 */
function outcomeIn(
  knot: CompiledKnot,
  { anchor, held, problems }: AnchorMerge,
  plan: Pick<AnchorPlan, 'operations' | 'withheld' | 'problems'>,
  tie: Tie,
  of: MemberId,
): MemberOutcome | undefined {
  const there = anchor.ties.find(({ member, gone }) => member === of && !gone);
  const at = there ? { key: there.key } : {};
  const failed = (words: readonly string[]): MemberOutcome => ({ state: 'failed', words: words.join('; '), ...at });
  const pending = (words: string): MemberOutcome => ({ state: 'pending', words, ...at });
  if (anchor.ties.some(({ member, gone }) => member === of && gone)) return undefined;
  if (tie.rejected) return failed(tie.rejected);
  if (plan.operations.some(({ member, kind }) => member === of && kind !== 'write back')) return undefined;
  const fieldOf = (id: string) => knot.fields.find((field) => field.id === id);
  const fieldName = (id: string): string => fieldOf(id)?.name ?? id;
  // A reason may quote the value, which another system gave.
  const reasonOf = ({ field, reason }: Problem): string => (fieldOf(field)?.sensitive ? withoutValues(reason) : reason);
  const wrong = [...problems, ...plan.problems].filter(
    ({ member, kind }) => (member === of && kind === 'unwritable') || (member === tie.member && kind === 'unreadable'),
  );
  if (wrong.length > 0) return failed(wrong.map((problem) => `${fieldName(problem.field)}: ${reasonOf(problem)}`));
  const withheld = plan.withheld.filter(({ member }) => member === of);
  const refused = withheld.filter(({ kind }) => kind !== 'waits');
  if (refused.length > 0) return failed(refused.map(({ reason }) => reason));
  if (there?.rejected) return failed(there.rejected);
  const waiting = withheld[0];
  if (waiting) return pending(waiting.reason);
  const undecided = held.find(({ field }) =>
    knot.fields.some(({ id, mappings }) => id === field && mappings.get(of)?.lens.writes),
  );
  if (undecided) return pending(`${fieldName(undecided.field)} waits for a decision`);
  if (!there) return undefined;
  return there.unacknowledgedSince === undefined ? { state: 'done', ...at } : pending('not acknowledged yet');
}

/** That all is well is no news of something that was never written, as of two records that were there already. */
function isNews(fields: OutcomeFields, outcome: MemberOutcome, account: OutcomeAccount | undefined): boolean {
  if (outcome.state === 'pending' && fields.state?.pending === undefined) return false;
  const told = account?.told;
  const differs = !told || told.state !== outcome.state || told.words !== outcome.words || told.key !== outcome.key;
  if (account?.isDue) return differs || (fields.time !== undefined && !told.refused);
  return differs && (told !== undefined || outcome.state !== 'done');
}

/** A field that there is nothing to say in is emptied. */
function changesOf(fields: OutcomeFields, told: Told, linkOf: LinkOf): FieldChange[] {
  const values: Readonly<Record<string, Raw>> = {
    state: fields.state?.[told.state] ?? null,
    words: told.words ?? null,
    time: new Date(told.at).toISOString(),
    key: told.key ?? null,
    link: (told.key === undefined ? undefined : linkOf(fields.of, told.key)) ?? null,
  };
  const { of: member } = fields;
  return outcomePaths(fields).map(([part, path]) => ({
    field: path,
    path,
    before: undefined,
    after: values[part] ?? null,
    meaning: null,
    by: { kind: 'member', member },
    why: { kind: 'outcome', member, state: told.state, ...(told.words === undefined ? {} : { words: told.words }) },
  }));
}
