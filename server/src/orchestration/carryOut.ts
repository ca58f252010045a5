import type { AnchorId } from '@anchor-knot/core';
import { applyPlan, type Applied } from './applyPlan.js';
import { allDone, type SharedPhase } from './batch.js';
import { membersInOrder } from './inOrder.js';
import { planAgain, planReleased } from './planAgain.js';
import { mergedAtOnce, pagesToMerge, planAnchors } from './planAnchors.js';
import { releasedHere } from './releasedHere.js';
import type { RunAtWork } from './runAtWork.js';
import { shareWork } from './shareWork.js';
import type { Matched, Planned } from './soFar.js';

/** Anchors whose records change while we write are merged again this often; what still races waits for the next run. */
const mostPasses = 3;
/** So many levels of things that stand under each other are made by one run; what is below waits for the next. */
const mostLevels = 100;
/** Anchors in a batch of a run that another worker may take. */
const usualBatchSize = 2000;

/** Plans what was matched: a few anchors at once; what is more is shared with whoever is free. */
export async function planRun(run: RunAtWork, matched: Matched): Promise<Planned> {
  if (run.takenUp) return run.takenUp.soFar.planned ?? share(run);
  const { installation, options, lease, tally } = run;
  tally.begin('planning');
  const size = Math.min(mergedAtOnce, batchSizeOf(run));
  const pages = pagesToMerge(installation.store, lease, {}, size);
  const first = await pages.next();
  const isMany = !first.done && first.value.length === size;
  // What stands under what is judged by all that was planned before.
  const hasLevels = options.knot.fields.some(({ levels }) => levels);
  if (isMany && !hasLevels) return openAndShare(run, 'planning', matched, null);
  const all = async function* () {
    if (!first.done) yield first.value;
    yield* pages;
  };
  return planAnchors(installation, options, lease, matched.context, all(), tally, run.beat);
}

/** Whether the worker that drove the run before had opened its writing. */
export function isWriting({ takenUp }: RunAtWork): boolean {
  return takenUp !== undefined && takenUp.soFar.planned !== null;
}

/**
 * Writes what was planned. What changed meanwhile is planned and written again, as long as there are passes; and what
 * waited for others of its knot, level by level, as they are there.
 * @param guard is asked before more is written than was planned; it throws where that would be too much
 */
export async function writeRun(
  run: RunAtWork,
  before: Matched,
  planned: Planned,
  guard: () => Promise<void>,
): Promise<void> {
  const { installation, options, lease, connectors, troubles } = run;
  if (!isWriting(run)) run.tally.begin('writing');
  const contextNow = () => ({ ...before.context, troubled: new Set(troubles.keys()) });
  let count = planned.toWrite;
  let { late } = planned;
  let releasedBefore: readonly AnchorId[] = [];
  // What was read before another worker wrote is not merged again: the next run reads it.
  const first = run.takenUp ? mostPasses : 1;
  for (let pass = first; ; pass += 1) {
    const applied =
      pass === first && isWriting(run)
        ? await share(run)
        : await apply(run, { ...before, context: contextNow() }, planned, count);
    run.note(applied.troubles);
    for (const member of applied.undone) run.undone.add(member);
    if (run.isStopAsked) return;
    late = [...late, ...applied.late];
    // What somebody else changed each time is read again by the next run.
    if (pass >= mostPasses && late.length > 0) for (const { id } of options.knot.members) run.unsettled.add(id);
    const again = pass < mostPasses ? { raced: applied.raced, late } : { raced: [], late: [] };
    const changed = new Set([...again.raced.map(({ anchor }) => anchor), ...again.late]);
    const released = await releasedNow(run, changed, pass);
    count = changed.size + released.length;
    // What was released and waits still is for the next run.
    const isStuck = changed.size === 0 && isSame(released, releasedBefore);
    if (count === 0 || isStuck) return;
    releasedBefore = released;
    const reachable = new Map([...connectors].filter(([member]) => !troubles.has(member)));
    await planAgain(installation, options, lease, reachable, again, contextNow(), (trouble) => run.note([trouble]));
    await planReleased(installation, options, lease, released, contextNow(), run.tally);
    if (released.length > 0) await guard();
    late = [];
  }
}

const isSame = (some: readonly AnchorId[], others: readonly AnchorId[]): boolean =>
  some.length === others.length && some.every((anchor, place) => anchor === others[place]);

/** What waited for others of its own knot that are there by now; nobody looks where nothing has come. */
async function releasedNow(
  { installation, options: { knot }, lease, readings, tally }: RunAtWork,
  except: ReadonlySet<AnchorId>,
  pass: number,
): Promise<readonly AnchorId[]> {
  const hasCome =
    [...readings.values()].some(({ newcomers, revived }) => newcomers + revived > 0) ||
    knot.members.some(({ id }) => tally.of(id).create > 0);
  if (pass >= mostLevels || !hasCome || !knot.fields.some(({ refersTo }) => refersTo === knot.id)) return [];
  const released = await releasedHere(installation.store, lease.knot);
  return released.filter((anchor) => !except.has(anchor));
}

/** @param count of the anchors with something to be written */
async function apply(run: RunAtWork, matched: Matched, planned: Planned, count: number): Promise<Applied> {
  if (canShareWrites(run) && count > batchSizeOf(run)) return openAndShare(run, 'writing', matched, planned);
  const { installation, options, lease, connectors, tally } = run;
  return applyPlan({
    installation,
    options,
    lease,
    connectors,
    context: matched.context,
    tally,
    range: {},
    afterBatch: run.beat,
    stopped: () => run.isStopAsked,
  });
}

/**
 * A file that is written whole, a list within a record, and what is made in an order can be written by one worker at a
 * time.
 */
function canShareWrites({ connectors, options }: RunAtWork): boolean {
  if (membersInOrder(options.knot).length > 0) return false;
  return [...connectors.values()].every(
    ({ capabilities: { heldWhole, writtenTogether } }) => heldWhole !== true && writtenTogether !== true,
  );
}

function batchSizeOf({ options }: RunAtWork): number {
  return options.batchSize ?? usualBatchSize;
}

async function openAndShare(run: RunAtWork, phase: SharedPhase, matched: Matched, planned: Planned | null) {
  await run.installation.store.openBatches(run.lease, phase, run.standing(matched, planned), batchSizeOf(run));
  return share(run);
}

/** Does a phase that was opened to other workers, this one too. */
async function share(run: RunAtWork) {
  const { tally, calls } = run;
  run.isShared = true;
  const before = tally.done;
  const batches = await shareWork(run.installation, run.options, run.lease, async (done) => {
    tally.done = before + done;
    await run.beat();
  });
  for (const batch of batches) {
    tally.addAll(batch.tally);
    calls.addAll(batch.calls);
  }
  return allDone(batches);
}
