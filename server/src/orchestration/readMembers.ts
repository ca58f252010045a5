import pLimit from 'p-limit';
import {
  type CompiledKnot,
  type CompiledMember,
  type Instant,
  type MemberId,
  type Reading,
  recordId,
  type RecordKey,
  type SourceRecord,
} from '@anchor-knot/core';
import { type Connector, type Page, SystemTrouble, type UnusableRecord } from '@anchor-knot/connectors';
import { endsOpen } from '@anchor-knot/contracts';
import { fingerprintOf } from './fingerprint.js';
import { identityOf } from './indexAnchors.js';
import type { Installation, RunOptions } from './installation.js';
import { type OutsideRecords, unclearFilter } from './outsideRecords.js';
import type { RunLease } from './lease.js';
import type { FilteredRecord, RecordRef, TieHead, MemberCursor, StagedRecord } from './stored.js';
import type { MemberTrouble } from './runResult.js';
import type { Tally } from './tally.js';

/** Systems' clocks and transactions: a change may become visible a little after its modification time. */
const cursorOverlapMs = 10_000;
/** Of records that are read by their keys: calls that are under way at once, and records of a page. */
const [namedAtOnce, namedInPage] = [4, 200];
/** More of them are told of by their number. */
const mostUnusable = 1000;

export interface MemberReading {
  readonly cursor: MemberCursor | undefined;
  readonly trouble: MemberTrouble | undefined;
  /** What could not be taken, with reasons; of a great many the first ones. */
  readonly unusable: readonly UnusableRecord[];
  readonly unusableCount: number;
  /** How many records were read that belong to no anchor, and were not known of. */
  readonly newcomers: number;
  /** How many were gone, and are there again. */
  readonly revived: number;
  /** Whether all of it was read, or only what changed. */
  readonly isWhole: boolean;
  /** Whether only records that were named were read. */
  readonly isNamed: boolean;
  /** Of what comes in several files, those that were read. */
  readonly files: ReadonlySet<string>;
  /** Records of which the system itself says that they were deleted. */
  readonly deleted: readonly RecordKey[];
  /** The listing was complete: what it has not shown is gone. */
  readonly isListed: boolean;
  /** A check that stops the run failed, and what it says. */
  readonly stopping: string | undefined;
}

/**
 * Reads one member and stages what differs from what is known. A system in trouble ends this member's reading, and no
 * other's.
 * @param named records that are read alone, each by its key; what changed, or all, where it is left out
 */
export async function readMember(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  member: CompiledMember,
  connector: Connector,
  outside: OutsideRecords,
  tally: Tally,
  afterPage: () => Promise<void>,
  known: MemberCursor | undefined,
  named?: readonly RecordKey[],
): Promise<MemberReading> {
  const { store, clock } = installation;
  const startedAt = clock.now();
  const sameVersion = known?.knotVersion === options.knotVersion;
  const changedSince =
    connector.capabilities.changesSince && known && sameVersion && !options.full && !member.filterIsDated
      ? known.changedSince
      : undefined;
  const complete = changedSince === undefined && named === undefined;
  const unusable: UnusableRecord[] = [];
  let unusableCount = 0;
  let [newcomerCount, revived] = [0, 0];
  const files = new Set<string>();
  const deleted = new Set<RecordKey>();
  let stopping: string | undefined;
  try {
    const pages = named ? readNamed(connector, named) : connector.read({ changedSince, signal: options.signal });
    for await (const page of pages) {
      unusable.push(...page.unusable.slice(0, mostUnusable - unusable.length));
      unusableCount += page.unusable.length;
      if (page.file !== undefined) files.add(page.file);
      const { staged, filtered, left, ...sorted } = await sortPage(
        installation,
        options.knot,
        member,
        page.records,
        outside,
        lease.knot,
        sameVersion,
      );
      stopping ??= sorted.stopping;
      for (const key of page.gone ?? []) deleted.add(key);
      // A complete listing is compared whole, in the end.
      if (page.wholeUnder && !complete)
        for (const key of await missingUnder(store, lease, member.id, page)) deleted.add(key);
      // A record may come twice: what was said last is so.
      for (const { key } of page.records) deleted.delete(key);
      if (complete && page.records.length > 0)
        await store.noteListed(
          lease,
          member.id,
          page.records.map(({ key }) => key),
        );
      if (left.length > 0) await outside.leave(left);
      if (filtered.length > 0) await store.noteFiltered(lease, member.id, filtered);
      newcomerCount += sorted.newcomers;
      revived += sorted.revived;
      const untied = staged.filter(({ anchor }) => anchor === undefined).map(({ key }) => key);
      // Under another version there may be no filter any more.
      const mayBeFiltered = member.filter !== undefined || !sameVersion;
      if (mayBeFiltered && untied.length > 0) await store.forgetFiltered(lease, member.id, untied);
      if (staged.length > 0) await store.stage(lease, staged);
      tally.add(member.id, 'read', page.records.length);
      tally.done += page.records.length;
      await afterPage();
    }
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return {
      cursor: undefined,
      trouble: { member: member.id, code: error.code, words: error.message, advice: error.advice },
      unusable,
      unusableCount,
      newcomers: newcomerCount,
      revived,
      isWhole: false,
      isNamed: named !== undefined,
      files,
      deleted: [],
      isListed: false,
      stopping,
    };
  }
  const since: Instant = startedAt + connector.clockOffset() - cursorOverlapMs;
  return {
    cursor: named
      ? undefined
      : {
          changedSince: since,
          listedAt: complete ? startedAt : (known?.listedAt ?? startedAt),
          readAt: startedAt,
          knotVersion: options.knotVersion,
        },
    trouble: undefined,
    unusable,
    unusableCount,
    newcomers: newcomerCount,
    revived,
    isWhole: complete,
    isNamed: named !== undefined,
    files,
    deleted: [...deleted],
    // A record that could not be read is not gone.
    isListed: complete && unusable.length === 0,
    stopping,
  };
}

/** The tied rows of records that a page has whole, and that are not in it. */
async function missingUnder(
  store: Installation['store'],
  lease: RunLease,
  member: MemberId,
  { records, wholeUnder = [] }: Page,
): Promise<readonly RecordKey[]> {
  const there = new Set(records.map(({ key }) => key));
  return (await store.tiedUnder(lease.knot, member, wholeUnder)).filter((key) => !there.has(key));
}

/** Records by their keys, in pages; those that are not there are gone. @throws {SystemTrouble} */
async function* readNamed(connector: Connector, named: readonly RecordKey[]): AsyncGenerator<Page> {
  const limit = pLimit(namedAtOnce);
  const beginnings = connector.readUnder ? named.filter(endsOpen) : [];
  for (const beginning of beginnings) yield (await connector.readUnder?.(beginning)) as Page;
  const keys = beginnings.length > 0 ? named.filter((key) => !endsOpen(key)) : named;
  for (let from = 0; from < keys.length; from += namedInPage) {
    const asked = keys.slice(from, from + namedInPage);
    const found = await Promise.all(asked.map((key) => limit(() => connector.readOne(key))));
    const records = found.filter((record) => record !== undefined);
    const there = new Set(records.map(({ key }) => key));
    yield { records, unusable: [], gone: asked.filter((key) => !there.has(key)) };
  }
}

/** What a page of records comes to. */
interface PageOutcome {
  /** Those that are new or not as their ties remember them. */
  readonly staged: readonly StagedRecord[];
  readonly filtered: readonly FilteredRecord[];
  /** Records outside of anchors that take no part any more. */
  readonly left: readonly RecordRef[];
  readonly newcomers: number;
  readonly revived: number;
  /** What is said of a check that stops the run. */
  readonly stopping: string | undefined;
}

async function sortPage(
  { store, clock }: Installation,
  knot: CompiledKnot,
  member: CompiledMember,
  records: readonly SourceRecord[],
  outside: OutsideRecords,
  knotId: string,
  sameVersion: boolean,
): Promise<PageOutcome> {
  const latest = new Map(records.map((record) => [record.key, record]));
  const heads = await store.tieHeads(knotId, member.id, [...latest.keys()]);
  const names = [...latest.keys()].map((key) => ({ member: member.id, key }));
  const resting = await outside.restingAmong(names);
  const staged: StagedRecord[] = [];
  const filtered: FilteredRecord[] = [];
  const left: RecordRef[] = [];
  let [newcomers, revived] = [0, 0];
  let stopping: string | undefined;
  const now = clock.now();
  for (const record of latest.values()) {
    const name = { member: member.id, key: record.key };
    const head = heads.get(record.key);
    const takesPart = knot.takesPart(member.id, record.fields, now);
    const fields = knot.rawFields(member.id, record);
    const rests = resting.get(recordId(name));
    const known = outside.get(name) ?? rests;
    if (!head && takesPart.ok && !takesPart.value) {
      filtered.push({ key: record.key, title: titleIn(knot, member.id, fields) });
      if (known) left.push(name);
      continue;
    }
    if (head && isAsKnown(head, record, fields, sameVersion)) continue;
    if (
      rests?.reading.version === record.version &&
      fingerprintOf(rests?.reading.fields ?? {}) === fingerprintOf(fields)
    )
      continue;
    const failing = knot.failedChecks(member.id, fields);
    const says = takesPart.ok ? failing.says : [...failing.says, `${unclearFilter}: ${takesPart.reason}`];
    if (failing.stops) stopping ??= `record ${record.key}: ${failing.says.join('; ')}`;
    const reading = {
      fields,
      version: record.version,
      modifiedAt: record.modifiedAt,
      ...(says.length > 0 ? { rejected: says } : {}),
    };
    if (known) outside.put({ ...known, reading });
    if (known?.verdict === 'aside') continue;
    if (!head && !known) newcomers += 1;
    if (head?.gone) revived += 1;
    staged.push({
      ...name,
      anchor: head?.anchor,
      reading,
      ...(head ? { matchKeys: [] } : identityOf(knot, member.id, reading)),
      unique: knot.uniqueValues(member.id, fields),
    });
  }
  return { staged, filtered, left, newcomers, revived, stopping };
}

/**
 * Whether nothing new is to be learned of a tied record. A fingerprint stands for translation, checks and merge: an
 * unchanged record under an unchanged definition gives nothing new. A record that we archived is read as it was left;
 * somebody who takes it out again makes a new version of it.
 */
function isAsKnown(head: TieHead, record: SourceRecord, fields: Reading['fields'], sameVersion: boolean): boolean {
  if (head.archived)
    return record.version === undefined ? head.fingerprint === fingerprintOf(fields) : head.version === record.version;
  if (head.gone || !sameVersion || head.version !== record.version) return false;
  return head.fingerprint === fingerprintOf(fields);
}

function titleIn(knot: CompiledKnot, member: MemberId, fields: Reading['fields']): string {
  const title = knot.sharedValues(member, fields, new Set([knot.titleField])).get(knot.titleField);
  return title === undefined || title === null ? '' : String(title);
}
