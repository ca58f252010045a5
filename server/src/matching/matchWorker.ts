import { workerData } from 'node:worker_threads';
import type { AnyRecords, ComparedPairs } from '@anchor-knot/core';
import { type MatchJob, type MatchRange, PreparedJob } from './job.js';

const job = new PreparedJob(workerData as MatchJob);

export function compareRange(range: MatchRange): ComparedPairs {
  return job.compare(range);
}

export function sample(): AnyRecords {
  return job.sample();
}
