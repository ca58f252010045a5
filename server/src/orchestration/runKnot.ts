import { breachedGuards, type MemberId } from '@anchor-knot/core';
import { membersUndone } from './applyPlan.js';
import type { PlanContext } from './batch.js';
import { isWriting, planRun, writeRun } from './carryOut.js';
import { decisionsOfGuards } from './decisions.js';
import { inPart, nothingBegins, stateOf } from './endOfRun.js';
import { keepIndex } from './indexAnchors.js';
import type { Installation, RunOptions } from './installation.js';
import { matchNewcomers } from './matchNewcomers.js';
import { accountsOf } from './outsideRecords.js';
import { partlyRead, readKnot } from './readKnot.js';
import { resolveIntents } from './resolveIntents.js';
import { Halt, RunAtWork } from './runAtWork.js';
import type { RunResult } from './runResult.js';
import { type Matched, matchedSoFar } from './soFar.js';
import { decisionsOfSources } from './sourceDecisions.js';
import type { MemberCursor } from './stored.js';

export type RunEnd =
  { readonly kind: 'ended'; readonly run: string; readonly result: RunResult } | { readonly kind: 'busy' };

/**
 * One run of a knot: read, translate, match, merge, plan, write, record. A dry run is the same up to the plan.
 * Errors of systems and records are part of the result; anything thrown is a fault of the installation itself, after
 * which the next run takes up where this one stood.
 */
export async function runKnot(installation: Installation, options: RunOptions): Promise<RunEnd> {
  const run = options.run ?? installation.nextId();
  const begunAt = installation.clock.now();
  const lease = await installation.store.beginRun({
    run,
    knot: options.knot.id,
    knotVersion: options.knotVersion,
    kind: options.kind,
    startedBy: options.startedBy,
    cause: options.cause,
    now: begunAt,
    leaseMs: options.leaseMs,
  });
  if (!lease) return { kind: 'busy' };
  const ended = options.whileRunning?.(lease);
  try {
    return { kind: 'ended', run, result: await drive(new RunAtWork(installation, options, lease, begunAt)) };
  } finally {
    ended?.();
  }
}

async function drive(run: RunAtWork): Promise<RunResult> {
  const { lease, options, tally } = run;
  const { store, clock } = run.installation;
  let cursors: ReadonlyMap<MemberId, MemberCursor> = new Map();
  let result: RunResult;
  try {
    await goThrough(run);
    const failed = [...run.readings.values()].map(({ trouble }) => trouble !== undefined);
    const troubles = [...run.troubles.values()].map(({ words }) => words);
    const untied = options.knot.members.reduce((sum, { id }) => sum + tally.of(id).accounts.untied, 0);
    const words = troubles.length > 0 ? troubles.join(' ') : nothingBegins(options.knot, untied);
    result = run.result(stateOf(run.isStopAsked, troubles.length, failed), words);
    if (!run.isStopAsked) cursors = cursorsOf(run);
  } catch (error) {
    if (!(error instanceof Halt)) throw error;
    result = { ...run.result(error.state, error.message), guards: error.guards };
  } finally {
    await run.close();
  }
  tally.begin('done');
  result = { ...result, progress: run.progress, now: clock.now() };
  if (options.kind === 'run') {
    await tellOfSources(run);
    result = inPart(result, await store.newDecisions(lease, run.begunAt));
  }
  await options.beforeEnd?.(result);
  await store.endRun(lease, result, options.kind === 'run' ? cursors : new Map());
  return result;
}

/** From where the next run asks for changes: of members of which all that was read is settled. */
function cursorsOf({ readings, unsettled }: RunAtWork): ReadonlyMap<MemberId, MemberCursor> {
  return new Map(
    [...readings].flatMap(([member, { cursor }]) =>
      cursor && !unsettled.has(member) ? [[member, cursor] as const] : [],
    ),
  );
}

/** The phases of a run, one after the other; of one that another worker drove before, those that are left. */
async function goThrough(run: RunAtWork): Promise<void> {
  const { takenUp, lease, tally } = run;
  const { store, clock } = run.installation;
  await run.connect();
  const unclear = await resolve(run);
  const matched = takenUp ? matchedSoFar(takenUp.soFar, takenUp.context) : await match(run, unclear);
  const planned = await planRun(run, matched);
  if (!isWriting(run)) {
    tally.countLeftAlone(matched.ties, planned.updatedButHeld);
    await guard(run, matched.ties);
  }
  if (run.options.kind === 'run' && !run.isStopAsked)
    await writeRun(run, matched, planned, () => guard(run, matched.ties));
  // What a worker wrote that died before it could tell is counted, too.
  if (run.isShared) tally.setWrites(await store.writeCounts(lease));
  // Last, so that a record leaves the outside only when its anchor is stored; the next run drops those that are tied.
  if (run.options.kind === 'run' && !run.isStopAsked)
    await store.saveOutside(lease, { ...matched, version: run.options.knotVersion }, clock.now());
}

/** Looks up writes that were begun and never concluded. @returns where a creation may have happened */
async function resolve(run: RunAtWork): Promise<PlanContext['unclear']> {
  const { installation, options, lease, connectors, takenUp } = run;
  if (!takenUp) run.tally.begin('resolving');
  if (options.kind === 'run') {
    const leftBehind = takenUp ? { stopped: () => run.isStopAsked } : undefined;
    const resolved = await resolveIntents(installation, options, lease, connectors, leftBehind);
    run.note(resolved.troubles);
    if (!takenUp) return resolved.unclear;
    for (const member of membersUndone(resolved.ends)) run.undone.add(member);
  }
  // Not before: who takes a batch looks up what was left behind in it, and nobody is to write it twice.
  if (takenUp) await installation.store.freeBatches(lease);
  return new Map();
}

/** Reads, and ties what is new to anchors. */
async function match(run: RunAtWork, unclear: PlanContext['unclear']): Promise<Matched> {
  const { installation, options, lease, tally, beat } = run;
  const { store } = installation;
  const { knot } = options;
  const outside = await readKnot(run);
  tally.begin('matching');
  await keepIndex(store, knot, lease, beat);
  const matched = await matchNewcomers(installation, options, lease, outside, tally, beat);
  await beat();
  // Before planning settles what needs no write.
  const known = await store.accounts(knot.id);
  const ties = new Map([...known].map(([member, { tied }]) => [member, tied]));
  const revived = [...run.readings].map(([member, reading]) => [member, reading.revived] as const);
  for (const [member, count] of [...matched.tied, ...revived]) ties.set(member, (ties.get(member) ?? 0) + count);
  tally.setAccounts(accountsOf(knot, known, ties, outside, matched.outside));
  const context: PlanContext = {
    blocked: matched.blocked,
    unclear,
    troubled: new Set(run.troubles.keys()),
    partlyRead: partlyRead(run),
  };
  return {
    context,
    ties,
    known: outside.known,
    staying: matched.outside,
    decisions: matched.decisions,
  };
}

async function guard(run: RunAtWork, ties: ReadonlyMap<MemberId, number>): Promise<void> {
  const { installation, options, lease } = run;
  const { knot, overGuards, kind } = options;
  if (kind !== 'run') return;
  const counts = new Map(knot.members.map(({ id }) => [id, countsOf(run, id, ties.get(id) ?? 0)]));
  const breaches = overGuards ? [] : breachedGuards(knot, counts);
  const systemName = (member: MemberId): string => installation.systemName(member);
  const decisions = decisionsOfGuards(systemName, breaches, run.shortListings);
  await installation.store.saveRunDecisions(lease, decisions, installation.clock.now());
  if (breaches.length > 0)
    throw new Halt(
      'stopped by a guard',
      breaches.map(({ member, says }) => `${systemName(member)}: ${says}`).join('; '),
      breaches,
    );
}

/** What a record is told is an update of it, too; but not what is told of writes that the guards have let pass. */
function countsOf({ tally }: RunAtWork, member: MemberId, ties: number) {
  const { create, update, archive, delete: deleted, 'write back': told } = tally.of(member);
  return { creates: create, updates: update + told, removals: archive + deleted, ties };
}

/** However the run ends: what is wrong with a system, or with what it gave, is not forgotten by the next one. */
async function tellOfSources({ installation, lease, readings, troubles }: RunAtWork): Promise<void> {
  const systemName = (member: MemberId): string => installation.systemName(member);
  const { sources, decisions } = decisionsOfSources(systemName, readings, troubles);
  await installation.store.saveSourceDecisions(lease, sources, decisions, installation.clock.now());
}
