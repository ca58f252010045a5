import { type AnchorId, anchorId, matchByKey, type MemberId, type Newcomer, type RecordKey } from '@anchor-knot/core';
import { decisionsOfMatching } from './decisions.js';
import type { Installation, RunOptions } from './installation.js';
import { outsideId } from './readMembers.js';
import type { DecisionDraft, OutsideRecord, RecordRef, RunLease } from './store.js';
import type { Tally } from './tally.js';

const askedAtOnce = 5000;

export interface MatchOutcome {
  /** What stays outside of anchors, and the decisions about it: to be stored when everything else is settled. */
  readonly outside: readonly OutsideRecord[];
  readonly decisions: readonly DecisionDraft[];
  /** Members in which nothing may be created for an anchor, because a doubt about a record there is open. */
  readonly blocked: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>;
  /** New ties per member. */
  readonly tied: ReadonlyMap<MemberId, number>;
}

/** Ties staged records without an anchor to anchors, old or new, and keeps the rest outside. */
export async function matchNewcomers(installation: Installation, options: RunOptions, lease: RunLease, outside: Map<string, OutsideRecord>, tally: Tally): Promise<MatchOutcome> {
  const { store, nextId } = installation;
  const { knot } = options;
  const newcomers: Newcomer[] = [];
  for await (const batch of store.stagedNewcomers(lease)) {
    for (const { member, key, matchKeys, isRejected } of batch) {
      const verdict = outside.get(outsideId(member, key))?.verdict;
      newcomers.push({
        member,
        key,
        keys: matchKeys.map((matchKey) => matchKey ?? undefined),
        canStart: !isRejected && knot.member(member).startsAnchors,
        separate: verdict === 'separate',
      });
    }
  }
  const matching = matchByKey(
    knot.keyRules.map(({ name }) => name),
    newcomers,
    await knownAnchors(installation, lease, newcomers),
    () => anchorId(nextId()),
  );
  const tied = new Map<MemberId, number>();
  for (const { newcomer } of matching.ties) tied.set(newcomer.member, (tied.get(newcomer.member) ?? 0) + 1);
  const assignments = matching.ties.map(({ newcomer: { member, key }, anchor, rule, isNewAnchor }) => ({ member, key, anchor, rule, isNewAnchor }));
  for (let at = 0; at < assignments.length; at += askedAtOnce) await store.assign(lease, assignments.slice(at, at + askedAtOnce));

  const stay: RecordRef[] = [];
  for (const doubt of matching.doubts) for (const key of 'keys' in doubt ? doubt.keys : [doubt.key]) stay.push({ member: doubt.member, key });
  stay.push(...matching.unmatched);
  const stays = new Map<string, OutsideRecord>();
  for (const [id, record] of outside) if (record.verdict === 'aside') stays.set(id, record);
  for (let at = 0; at < stay.length; at += askedAtOnce) {
    for (const { member, key, reading } of await store.stagedReadings(lease, stay.slice(at, at + askedAtOnce))) {
      const id = outsideId(member, key);
      stays.set(id, { member, key, reading, verdict: outside.get(id)?.verdict });
    }
  }
  const rejected = matching.unmatched.flatMap(({ member, key }) => {
    const record = stays.get(outsideId(member, key));
    return record?.reading.rejected ? [record] : [];
  });
  for (const { member } of rejected) tally.add(member, 'rejected');
  for (const doubt of matching.doubts) tally.add(doubt.member, 'waiting', 'keys' in doubt ? doubt.keys.length : 1);
  const decisions = decisionsOfMatching((member) => installation.systemName(member), matching.doubts, rejected);
  return { blocked: matching.blocked, tied, outside: [...stays.values()], decisions };
}

async function knownAnchors({ store }: Installation, lease: RunLease, newcomers: readonly Newcomer[]) {
  const wanted = new Map<string, readonly [number, string]>();
  for (const { keys } of newcomers) for (const [rule, key] of keys.entries()) if (key !== undefined) wanted.set(`${rule}\u001f${key}`, [rule, key]);
  const byKey = new Map<string, AnchorId[]>();
  const anchors = new Set<AnchorId>();
  const asked = [...wanted.values()];
  for (let at = 0; at < asked.length; at += askedAtOnce) {
    for (const { rule, key, anchor } of await store.anchorsWithKeys(lease.knot, asked.slice(at, at + askedAtOnce))) {
      byKey.set(`${rule}\u001f${key}`, [...(byKey.get(`${rule}\u001f${key}`) ?? []), anchor]);
      anchors.add(anchor);
    }
  }
  const tied = new Map<string, RecordKey>();
  const found = [...anchors];
  for (let at = 0; at < found.length; at += askedAtOnce) {
    for (const { anchor, member, key } of await store.tiesOf(lease.knot, found.slice(at, at + askedAtOnce))) tied.set(`${anchor}\u001f${member}`, key);
  }
  return {
    withKey: (rule: number, key: string) => byKey.get(`${rule}\u001f${key}`) ?? [],
    tiedKey: (anchor: AnchorId, member: MemberId) => tied.get(`${anchor}\u001f${member}`),
  };
}
