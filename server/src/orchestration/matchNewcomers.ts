import {
  type AnchorId,
  anchorId,
  blockedMembers,
  type ComparedAnchor,
  type CompiledKnot,
  type EvidenceTexts,
  matchFree,
  type MemberId,
  type Newcomer,
  type Reading,
  type RecordKey,
  recordId,
  RecordMatching,
  type RecordName,
  Verdicts,
} from '@anchor-knot/core';
import { compareRecords } from '../matching/compareRecords.js';
import { inSteps } from '../matching/inSteps.js';
import { decisionsOfMatching, type ExplainPair } from './decisions.js';
import { blocksOf } from './indexAnchors.js';
import type { Installation, RunOptions } from './installation.js';
import type { OutsideRecords } from './outsideRecords.js';
import { letRest, unmatchedMarks, waitingMarks, wakeLike } from './restingRecords.js';
import type { RunLease } from './lease.js';
import type { Store } from './store.js';
import type { OutsideRecord, RecordRef, StagedNewcomer, TieRef } from './stored.js';
import type { DecisionDraft } from './decisionDraft.js';
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
export async function matchNewcomers(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  outside: OutsideRecords,
  tally: Tally,
  beat: () => Promise<void>,
): Promise<MatchOutcome> {
  const { store, nextId } = installation;
  const { knot, kind } = options;
  const read: StagedNewcomer[] = [];
  for await (const batch of store.stagedNewcomers(lease)) read.push(...batch);
  const staged = [...read, ...(await wakeLike(store, knot, outside, read))];
  const newcomers = staged.map(({ member, key, matchKeys, isRejected }): Newcomer => ({
    member,
    key,
    keys: matchKeys.map((matchKey) => matchKey ?? undefined),
    canStart: !isRejected && knot.member(member).startsAnchors,
  }));
  const said = newcomers.length === 0 ? [] : await store.verdicts(lease.knot);
  const verdicts = new Verdicts(said);
  const named = said.flatMap(({ a, b }) => [a, b]);
  const matching = new RecordMatching(
    knot.keyRules.map(({ name }) => name),
    newcomers,
    await knownAnchors(store, lease, newcomers, named),
    () => anchorId(nextId()),
    verdicts,
  ).applyKeys();
  const explain = await weighEvidence(
    store,
    options,
    lease,
    matching,
    new Map(staged.map((record) => [recordId(record), record.texts])),
    verdicts,
    beat,
  );
  const result = matching.applyKeysAgain().finish();
  const tied = new Map<MemberId, number>();
  for (const { newcomer } of result.ties) tied.set(newcomer.member, (tied.get(newcomer.member) ?? 0) + 1);
  const assignments = result.ties.map(({ newcomer: { member, key }, anchor, why }) => ({ member, key, anchor, why }));
  for (let at = 0; at < assignments.length; at += askedAtOnce)
    await store.assign(lease, assignments.slice(at, at + askedAtOnce));

  const waiting = result.doubts.flatMap((doubt) =>
    ('keys' in doubt ? doubt.keys : [doubt.key]).map((key): RecordRef => ({ member: doubt.member, key })),
  );
  const unmatched = await readingsOf(store, lease, result.unmatched, ({ rejected }) =>
    rejected ? 'rejected' : 'untied',
  );
  const doubtful = await readingsOf(store, lease, waiting, () => 'waiting');
  if (kind === 'run') {
    const resting = [...unmatchedMarks(knot, unmatched), ...waitingMarks(result, doubtful)];
    await letRest(store, options, lease, outside.acts, staged, resting);
  }
  const staying = [...outside.setAside(), ...doubtful, ...unmatched];
  const rejected = staying.filter(({ reason, verdict }) => reason === 'rejected' && verdict === undefined);
  for (const { member } of rejected) tally.add(member, 'rejected');
  for (const doubt of result.doubts) tally.add(doubt.member, 'waiting', 'keys' in doubt ? doubt.keys.length : 1);
  for (const { id } of knot.members) {
    tally.add(id, 'waiting', outside.restingOf(id).waiting);
    tally.add(id, 'rejected', outside.restingOf(id).rejected);
  }
  const decisions = decisionsOfMatching((member) => installation.systemName(member), result.doubts, rejected, explain);
  return { blocked: blockedMembers(result.blocked), tied, outside: staying, decisions };
}

async function readingsOf(
  store: Store,
  lease: RunLease,
  refs: readonly RecordRef[],
  reasonOf: (reading: Reading) => OutsideRecord['reason'],
): Promise<OutsideRecord[]> {
  const found: OutsideRecord[] = [];
  for (let at = 0; at < refs.length; at += askedAtOnce)
    for (const { member, key, reading } of await store.stagedReadings(lease, refs.slice(at, at + askedAtOnce)))
      found.push({ member, key, reading, reason: reasonOf(reading) });
  return found;
}

/**
 * Compares what the key rules have left with each other and with what is tied, and ties what is clear. Gives how two
 * records were compared.
 */
async function weighEvidence(
  store: Store,
  { knot, signal }: RunOptions,
  lease: RunLease,
  matching: RecordMatching,
  textsOf: ReadonlyMap<string, EvidenceTexts>,
  verdicts: Verdicts,
  beat: () => Promise<void>,
): Promise<ExplainPair | undefined> {
  const { evidence } = knot;
  const free = matching.free();
  if (!evidence?.weights || evidence.fields.length === 0 || free.length === 0) return undefined;
  const joined = [...matching.together().values()].flat();
  const { known, found } = await candidatesOf(
    store,
    lease,
    knot,
    free.map((record) => textsOf.get(recordId(record)) ?? []),
  );
  const records: RecordName[] = [...free, ...joined, ...known];
  const texts = [...free, ...joined]
    .map((one) => textsOf.get(recordId(one)) ?? [])
    .concat(known.map((record) => record.texts));
  const memberAt = new Map(knot.members.map(({ id }, index) => [id, index]));
  const first = free.length + joined.length;
  // Telling how far it is asks too whether to stop.
  const stopping = new AbortController();
  let beating = Promise.resolve();
  const { likely } = await compareRecords({
    evidence: evidence.fields,
    texts,
    memberOf: records.map(({ member }) => memberAt.get(member) ?? 0),
    members: knot.members.length,
    newcomers: free.length,
    others: joined.length,
    known: found.map((places) => places.map((place) => first + place)),
    withinMembers: true,
    weights: evidence.weights,
    least: evidence.thresholds.lower,
    signal: signal ? AbortSignal.any([signal, stopping.signal]) : stopping.signal,
    onProgress: () => {
      beating = beating.then(beat);
      beating.catch(() => stopping.abort());
    },
  }).finally(() => beating);
  const matched = matchFree({
    matching,
    members: knot.members.map(({ id }) => id),
    records,
    likely,
    thresholds: evidence.thresholds,
    verdicts,
    known: anchorsOf(known),
  });
  await inSteps(matched, signal);
  return explainer(records, texts, likely, evidence.fields);
}

function explainer(
  records: readonly RecordName[],
  texts: readonly EvidenceTexts[],
  likely: Awaited<ReturnType<typeof compareRecords>>['likely'],
  fields: NonNullable<CompiledKnot['evidence']>['fields'],
): ExplainPair {
  const places = new Map(records.map((record, place) => [recordId(record), place]));
  return (a, b) => {
    const [one, other] = [places.get(recordId(a)), places.get(recordId(b))];
    if (one === undefined || other === undefined) return undefined;
    return {
      ...likely.explain(one, other),
      texts: fields.map((field, part) => ({
        fields: field.fields,
        a: texts[one]?.[part] ?? null,
        b: texts[other]?.[part] ?? null,
      })),
    };
  };
}

async function candidatesOf(store: Store, lease: RunLease, knot: CompiledKnot, texts: readonly EvidenceTexts[]) {
  const blocks = blocksOf(knot, texts);
  const known: {
    readonly member: MemberId;
    readonly key: RecordKey;
    readonly anchor: AnchorId;
    readonly texts: EvidenceTexts;
  }[] = [];
  const places = new Map<string, number>();
  const found: number[][] = [];
  for (let at = 0; at < blocks.length; at += candidatesAtOnce) {
    const part = await store.evidenceCandidates(lease.knot, blocks.slice(at, at + candidatesAtOnce));
    const alive = await aliveOf(store, lease, [...new Set(part.records.map(({ anchor }) => anchor))]);
    const placeOf = part.records.map((record) => {
      if (!alive.has(record.anchor)) return undefined;
      const id = recordId(record);
      const there = places.get(id) ?? known.length;
      if (there === known.length) {
        places.set(id, there);
        known.push(record);
      }
      return there;
    });
    for (const own of part.found) found.push(own.flatMap((place) => placeOf[place] ?? []));
  }
  return { known, found };
}

const candidatesAtOnce = 1000;

function anchorsOf(records: readonly (RecordName & { readonly anchor: AnchorId })[]): ComparedAnchor[] {
  const anchors = new Map<AnchorId, RecordName[]>();
  for (const record of records) {
    const own = anchors.get(record.anchor);
    if (own) own.push(record);
    else anchors.set(record.anchor, [record]);
  }
  return [...anchors]
    .sort(([a], [b]) => (a < b ? -1 : 1))
    .map(([anchor, own]) => ({ anchor, records: own, members: own.map(({ member }) => member) }));
}

/** The anchors among these that have a record that is there: nothing is tied to a dead one. */
async function aliveOf(
  store: Store,
  lease: RunLease,
  anchors: readonly AnchorId[],
  tell: (tie: TieRef) => void = () => undefined,
): Promise<ReadonlySet<AnchorId>> {
  const alive = new Set<AnchorId>();
  for (let at = 0; at < anchors.length; at += askedAtOnce) {
    for (const tie of await store.tiesOf(lease.knot, anchors.slice(at, at + askedAtOnce))) {
      tell(tie);
      if (!tie.gone) alive.add(tie.anchor);
    }
  }
  return alive;
}

async function knownAnchors(
  store: Store,
  lease: RunLease,
  newcomers: readonly Newcomer[],
  named: readonly RecordName[],
) {
  const wanted = new Map<string, readonly [number, string]>();
  for (const { keys } of newcomers)
    for (const [rule, key] of keys.entries()) if (key !== undefined) wanted.set(`${rule}\u001f${key}`, [rule, key]);
  const byKey = new Map<string, AnchorId[]>();
  const anchors = new Set<AnchorId>();
  const asked = [...wanted.values()];
  for (let at = 0; at < asked.length; at += askedAtOnce) {
    for (const { rule, key, anchor } of await store.anchorsWithKeys(lease.knot, asked.slice(at, at + askedAtOnce))) {
      byKey.set(`${rule}\u001f${key}`, [...(byKey.get(`${rule}\u001f${key}`) ?? []), anchor]);
      anchors.add(anchor);
    }
  }
  const byRecord = new Map<string, AnchorId>();
  const keysOf = new Map<MemberId, RecordKey[]>();
  for (const { member, key } of named) keysOf.set(member, [...(keysOf.get(member) ?? []), key]);
  for (const [member, keys] of keysOf) {
    for (const [key, { anchor }] of await store.tieHeads(lease.knot, member, keys)) {
      byRecord.set(recordId({ member, key }), anchor);
      anchors.add(anchor);
    }
  }
  const tied = new Map<string, RecordKey>();
  const alive = await aliveOf(store, lease, [...anchors], ({ anchor, member, key }) =>
    tied.set(`${anchor}\u001f${member}`, key),
  );
  return {
    withKey: (rule: number, key: string) => (byKey.get(`${rule}\u001f${key}`) ?? []).filter((id) => alive.has(id)),
    tiedKey: (anchor: AnchorId, member: MemberId) => tied.get(`${anchor}\u001f${member}`),
    anchorOf: (record: RecordName) => {
      const anchor = byRecord.get(recordId(record));
      return anchor !== undefined && alive.has(anchor) ? anchor : undefined;
    },
  };
}
