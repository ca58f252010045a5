import { workerData } from 'node:worker_threads';
import { BlockIndex, comparePairs, type ComparedPairs, frequenciesOf, prepareColumns, sampleAnyPairs } from '@anchor-knot/core';
import type { AnyPairs, MatchJob, MatchRange } from './job.js';

/** Each thread prepares all records once, and then compares the ranges that it is given. */
const { evidence, left, right } = workerData as MatchJob;
const leftColumns = prepareColumns(evidence, left);
const rightColumns = right ? prepareColumns(evidence, right) : leftColumns;
const rights = (right ?? left).length;
const index = new BlockIndex(rightColumns, rights);
const frequencies = leftColumns.map((column, field) => frequenciesOf(column, rightColumns[field] ?? column));

export function compareRange(range: MatchRange): ComparedPairs {
  return comparePairs(leftColumns, index, frequencies, { ...range, within: right === undefined });
}

export function sample(): AnyPairs {
  return {
    counts: sampleAnyPairs(leftColumns, rightColumns, left.length, rights),
    totals: frequencies.map((ofField) => [...ofField.values()].reduce((sum, count) => sum + count, 0)),
  };
}
