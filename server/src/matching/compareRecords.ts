import { setMaxListeners } from 'node:events';
import { availableParallelism } from 'node:os';
import {
  type AnyRecords,
  type ComparedPairs,
  learnFromPairs,
  leastBits,
  LikelyPairs,
  type MatchJob,
  type MatchRange,
  mostEvidenceFields,
  PreparedJob,
  type Weights,
} from '@anchor-knot/core';
import { Piscina } from 'piscina';
import { inSteps } from './inSteps.js';

const inOneRange = 1000;
/** One more than this would only wait. */
const mostThreads = availableParallelism();
/** Starting threads and handing them the records costs more than comparing so few. */
const worthThreads = 2000;

export interface CompareOptions extends MatchJob {
  /** Pairs with fewer bits are left out; those that nobody would ask about where it is not given. */
  readonly least?: number | undefined;
  readonly signal?: AbortSignal | undefined;
  readonly onProgress?: ((done: number, total: number) => void) | undefined;
}

export interface Compared {
  readonly weights: Weights;
  readonly likely: LikelyPairs;
  /** How many candidate pairs were compared. */
  readonly compared: number;
}

/**
 * Compares records by evidence: candidates are compared in threads, weights are learned from how they compare (or
 * given), and
 * the likely pairs are scored. The same records give the same result, whatever the number of threads.
 * @throws RangeError for no or too many parts of evidence; when the signal is aborted
 */
export async function compareRecords({
  least = leastBits,
  signal,
  onProgress,
  ...job
}: CompareOptions): Promise<Compared> {
  const { evidence, texts, newcomers, memberOf, weights: known } = job;
  if (evidence.length === 0 || evidence.length > mostEvidenceFields)
    throw new RangeError(`evidence has 1 to ${mostEvidenceFields} fields`);
  const ranges: MatchRange[] = [];
  for (let from = 0; from < newcomers; from += inOneRange)
    ranges.push({ from, to: Math.min(newcomers, from + inOneRange) });
  let done = 0;
  const finished = ({ from, to }: MatchRange): void => onProgress?.((done += to - from), newcomers);
  const { any, parts } =
    newcomers < worthThreads
      ? compareHere(job, ranges, finished, signal)
      : await compareInThreads(job, ranges, finished, signal);
  const sizes = new Array<number>(job.members).fill(0);
  for (let place = 0; place < texts.length; place += 1)
    sizes[memberOf[place] as number] = (sizes[memberOf[place] as number] ?? 0) + 1;
  const weights = known ?? (await inSteps(learnFromPairs(evidence, parts, memberOf, any, sizes), signal));
  return {
    weights,
    likely: await inSteps(LikelyPairs.of(evidence, weights, texts, parts, least), signal),
    compared: parts.reduce((sum, part) => sum + part.compared, 0),
  };
}

/** Nothing is learned from it. */
const nothing: AnyRecords = { anyPairs: [], shares: [] };

interface Parts {
  readonly any: AnyRecords;
  readonly parts: readonly ComparedPairs[];
}

function compareHere(
  job: MatchJob,
  ranges: readonly MatchRange[],
  finished: (range: MatchRange) => void,
  signal: AbortSignal | undefined,
): Parts {
  signal?.throwIfAborted();
  const prepared = new PreparedJob(job);
  const parts = ranges.map((range) => {
    const part = prepared.compare(range);
    finished(range);
    return part;
  });
  return { any: job.weights ? nothing : prepared.sample(), parts };
}

async function compareInThreads(
  job: MatchJob,
  ranges: readonly MatchRange[],
  finished: (range: MatchRange) => void,
  signal: AbortSignal | undefined,
): Promise<Parts> {
  // Each range that waits listens to it.
  if (signal) setMaxListeners(ranges.length + 10, signal);
  const pool = new Piscina<MatchRange | undefined, ComparedPairs | AnyRecords>({
    filename: new URL('./matchWorker.js', import.meta.url).href,
    workerData: job,
    minThreads: mostThreads,
    maxThreads: mostThreads,
  });
  try {
    const options = { ...(signal ? { signal } : {}) };
    const [any, ...parts] = (await Promise.all([
      job.weights ? nothing : pool.run(undefined, { ...options, name: 'sample' }),
      ...ranges.map(async (range) => {
        const part = (await pool.run(range, { ...options, name: 'compareRange' })) as ComparedPairs;
        finished(range);
        return part;
      }),
    ])) as [AnyRecords, ...ComparedPairs[]];
    return { any, parts };
  } finally {
    await pool.destroy();
  }
}
