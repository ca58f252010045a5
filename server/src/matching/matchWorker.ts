import { workerData } from 'node:worker_threads';
import { type AnyRecords, type ComparedPairs, type MatchJob, type MatchRange, PreparedJob } from '@anchor-knot/core';

const job = new PreparedJob(workerData as MatchJob);

export function compareRange(range: MatchRange): ComparedPairs {
  return job.compare(range);
}

export function sample(): AnyRecords {
  return job.sample();
}
