import { type CompiledKnot, type MemberId, recordId } from '@anchor-knot/core';
import { identityOf } from './readMembers.js';
import { emptyAccount, type MemberAccount } from './runResult.js';
import type { OutsideRecord, RecordRef, RunLease, Store } from './store.js';

/** Records that were read once and belong to no anchor: they take part in each run until they do. */
export interface OutsideRecords {
  /** All that were outside when the run began. */
  readonly known: readonly RecordRef[];
  /** By record, those that are not tied meanwhile. */
  readonly records: Map<string, OutsideRecord>;
}

/** Loads them, and stages those that a person has not set aside. */
export async function stageOutside(store: Store, knot: CompiledKnot, lease: RunLease): Promise<OutsideRecords> {
  const outside = await store.outside(knot.id);
  const records = new Map<string, OutsideRecord>();
  for (const member of knot.members) {
    const known = outside.filter((record) => record.member === member.id);
    const keys = known.map(({ key }) => key);
    const tied = await store.tieHeads(knot.id, member.id, keys);
    for (const record of known) if (!tied.has(record.key)) records.set(recordId(record), record);
  }
  const waiting = [...records.values()].filter(({ verdict }) => verdict !== 'aside');
  if (waiting.length > 0)
    await store.stage(
      lease,
      waiting.map(({ member, key, reading }) => ({
        member,
        key,
        reading: checkedAgain(knot, member, reading),
        anchor: undefined,
        ...identityOf(knot, member, reading),
      })),
    );
  return { known: outside.map(({ member, key }) => ({ member, key })), records };
}

/** A waiting record that was not read again is judged by the checks as they are now. */
function checkedAgain(
  knot: CompiledKnot,
  member: MemberId,
  { rejected: _, ...reading }: OutsideRecord['reading'],
): OutsideRecord['reading'] {
  const { says } = knot.failedChecks(member, reading.fields);
  return says.length > 0 ? { ...reading, rejected: says } : reading;
}

/** In which list each record is that was read: those that are tied, of each reason outside, and the filtered ones. */
export async function accountsOf(
  store: Store,
  knot: CompiledKnot,
  ties: ReadonlyMap<MemberId, number>,
  outside: readonly OutsideRecord[],
): Promise<ReadonlyMap<MemberId, MemberAccount>> {
  const known = await store.accounts(knot.id);
  return new Map(
    knot.members.map(({ id }) => {
      const account = { ...emptyAccount, filtered: known.get(id)?.filtered ?? 0, tied: ties.get(id) ?? 0 };
      for (const { member, reason, verdict } of outside) if (member === id) account[verdict ?? reason] += 1;
      return [id, account];
    }),
  );
}
