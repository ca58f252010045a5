import {
  type AnchorId,
  expectedFields,
  type MemberId,
  type Reading,
  recordId,
  type RecordKey,
} from '@anchor-knot/core';
import type { Installation, RunOptions } from './installation.js';
import type { OutsideRecords } from './outsideRecords.js';
import type { RunLease } from './lease.js';
import type { RecordRef, StagedRecord } from './stored.js';

const atOnce = 1000;

/**
 * Applies the checks that no record can be judged by alone: after everything was read, records that have a value that
 * another record of their member has too are rejected, also those that have not changed; and those that were rejected
 * for
 * it and are alone with their value now are taken in again.
 * @returns what stops the run, where such a check says so
 */
export async function rejectRepeated(
  installation: Installation,
  { knot }: RunOptions,
  lease: RunLease,
  outside: OutsideRecords,
): Promise<string | undefined> {
  const { store } = installation;
  if (knot.uniqueChecks.length === 0) return undefined;
  const checks = new Map(knot.uniqueChecks.map((check) => [check.id, check]));
  const failing = new Map<string, RecordRef & { readonly isStaged: boolean; readonly says: Set<string> }>();
  let stopping: string | undefined;
  for (const { check: id, member, key, isStaged } of await store.repeatedValues(lease, [...checks.keys()])) {
    const check = checks.get(id);
    if (!check) continue;
    const name = recordId({ member, key });
    const known = failing.get(name) ?? { member, key, isStaged, says: new Set<string>() };
    known.says.add(check.says);
    failing.set(name, known);
    if (check.onFail === 'stop') stopping ??= `record ${key}: ${check.says}`;
  }
  const staged = [...failing.values()].filter(({ isStaged }) => isStaged);
  for (let at = 0; at < staged.length; at += atOnce) {
    const readings = await store.stagedReadings(lease, staged.slice(at, at + atOnce));
    await store.changeReadings(
      lease,
      readings.map(({ member, key, reading }) => ({
        member,
        key,
        reading: rejectedFor(reading, reading.rejected, failing.get(recordId({ member, key }))?.says ?? []),
      })),
    );
  }
  const waking = [...failing.values()].filter(({ isStaged }) => !isStaged);
  for (let at = 0; at < waking.length; at += atOnce)
    await outside.wakeAmong(waking.slice(at, at + atOnce), (record) =>
      rejectedFor(record.reading, record.reading.rejected, failing.get(recordId(record))?.says ?? []),
    );
  await stageTies(installation, lease, failing, new Set(knot.uniqueChecks.map(({ says }) => says)));
  return stopping;
}

/** Ties of which nothing was staged, and whose records fail now, or failed before and do not any more. */
async function stageTies(
  { store }: Installation,
  lease: RunLease,
  failing: ReadonlyMap<string, RecordRef & { readonly isStaged: boolean; readonly says: ReadonlySet<string> }>,
  ofUniqueChecks: ReadonlySet<string>,
): Promise<void> {
  const looked = new Map<string, RecordRef>();
  for (const [name, record] of failing) if (!record.isStaged) looked.set(name, record);
  for (const { member, key } of await store.rejectedTies(lease)) looked.set(recordId({ member, key }), { member, key });
  const refs = [...looked.values()];
  for (let at = 0; at < refs.length; at += atOnce) {
    const some = refs.slice(at, at + atOnce);
    const already = new Set(
      (await store.stagedReadings(lease, some)).map(({ member, key }) => recordId({ member, key })),
    );
    const anchors = await anchorsOf(
      store,
      lease,
      some.filter(({ member, key }) => !already.has(recordId({ member, key }))),
    );
    const loaded = await store.loadAnchors(lease, [...new Set(anchors.map(({ anchor }) => anchor))]);
    const records = anchors.flatMap(({ member, key, anchor }): StagedRecord[] => {
      const tie = loaded.get(anchor)?.anchor.ties.find((tie) => tie.member === member && tie.key === key);
      if (!tie) return [];
      const others = (tie.rejected ?? []).filter((says) => !ofUniqueChecks.has(says));
      const reading = rejectedFor(
        { fields: expectedFields(tie), version: tie.version },
        others,
        failing.get(recordId({ member, key }))?.says ?? [],
      );
      const isSame = JSON.stringify(reading.rejected ?? []) === JSON.stringify(tie.rejected ?? []);
      return isSame ? [] : [{ member, key, anchor, reading, matchKeys: [] }];
    });
    if (records.length > 0) await store.stage(lease, records);
  }
}

async function anchorsOf(
  store: Installation['store'],
  lease: RunLease,
  refs: readonly RecordRef[],
): Promise<{ member: MemberId; key: RecordKey; anchor: AnchorId }[]> {
  const byMember = new Map<MemberId, RecordKey[]>();
  for (const { member, key } of refs) byMember.set(member, [...(byMember.get(member) ?? []), key]);
  const found: { member: MemberId; key: RecordKey; anchor: AnchorId }[] = [];
  for (const [member, keys] of byMember)
    for (const [key, { anchor, gone }] of await store.tieHeads(lease.knot, member, keys))
      if (!gone) found.push({ member, key, anchor });
  return found;
}

function rejectedFor(
  { rejected: _, ...reading }: Reading,
  others: readonly string[] | undefined,
  says: Iterable<string>,
): Reading {
  const all = [...new Set([...(others ?? []), ...says])];
  return all.length > 0 ? { ...reading, rejected: all } : reading;
}
