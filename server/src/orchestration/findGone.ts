import type { MemberId, RecordKey } from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { Installation } from './installation.js';
import type { MemberReading } from './readMembers.js';
import type { MemberTrouble } from './runResult.js';
import { tooShort } from './sourceDecisions.js';
import type { OutsideRecords } from './outsideRecords.js';
import type { RunLease } from './lease.js';
import { unlistedPages } from './unlistedPages.js';

/** A listing that lacks more than this share of its ties (and more than a handful) is rather broken than true. */
const believableShare = 0.05;
const believableCount = 20;
/** However few there are: more than half of some gone at once, or all of them, is for a person to believe. */
const believablePart = 0.5;
const fewest = 4;
const doubtAdvice =
  'Look whether records were deleted there, or whether the account sees fewer of them. Nothing was written there in ' +
  'this run. Where it is so, let a run go over the guards.';

interface GoneOutcome {
  readonly gone: readonly RecordKey[];
  /** Set when so many are missing that the listing itself is doubted. */
  readonly doubted?: string;
}

/** What is known of a member's records after it was read. */
export type Presence = Pick<MemberReading, 'deleted' | 'isListed'>;

/**
 * Notes what is gone: what the system says was deleted, and what a complete listing lacks. It is so whether the run
 * writes or not; a dry run shows what would follow.
 * @param outside records of no anchor, of all members; those that are gone are taken out
 * @returns why the listing is doubted, where it is, and the trouble that came of it
 */
export async function settleGone(
  installation: Installation,
  lease: RunLease,
  member: MemberId,
  connector: Connector,
  { deleted, isListed }: Presence,
  outside: OutsideRecords,
  overGuards: boolean,
): Promise<{ readonly doubted?: string; readonly trouble?: MemberTrouble }> {
  const { store, clock } = installation;
  await outside.leave(deleted.map((key) => ({ member, key })));
  const mark = async (keys: readonly RecordKey[]): Promise<void> => {
    outside.noteGone(member, keys);
    if (keys.length > 0) await store.markGone(lease, member, keys, clock.now());
  };
  await mark(deleted);
  if (!isListed) return {};
  await outside.leaveUnlisted(member);
  for await (const keys of unlistedPages(store, lease, member, 'filtered'))
    await store.forgetFiltered(lease, member, keys);
  try {
    const { gone, doubted } = await findGone(installation, lease, member, connector, overGuards);
    await mark(gone);
    if (doubted === undefined) return {};
    const words = `${installation.systemName(member)}: ${doubted}`;
    return { doubted, trouble: { member, code: tooShort, words, advice: doubtAdvice } };
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return { trouble: { member, code: error.code, words: error.message, advice: error.advice } };
  }
}

/**
 * Ties whose records are missing from a complete listing. Each is confirmed by reading its key before it counts,
 * because
 * a skipped page or a filter must not look like a deletion.
 */
async function findGone(
  { store }: Installation,
  lease: RunLease,
  member: MemberId,
  connector: Connector,
  overGuards: boolean,
): Promise<GoneOutcome> {
  const missing: RecordKey[] = [];
  for await (const keys of unlistedPages(store, lease, member, 'tied')) missing.push(...keys);
  const total = (await store.tieCounts(lease.knot)).get(member) ?? 0;
  if (!overGuards && isDoubtful(missing.length, total)) {
    return {
      gone: [],
      doubted: `${missing.length} of ${total} tied records are missing from the listing, which is too many to believe`,
    };
  }
  const gone: RecordKey[] = [];
  for (const key of missing) if ((await connector.readOne(key)) === undefined) gone.push(key);
  return { gone };
}

/** Whether so many records are missing at once that the listing is rather short than true. */
function isDoubtful(missing: number, total: number): boolean {
  if (missing === 0) return false;
  if (missing === total) return true;
  if (total >= fewest && missing > total * believablePart) return true;
  return missing > believableCount && missing > total * believableShare;
}
