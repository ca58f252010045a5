/**
 * How well mapping proposals find the pairs of fields that correspond, on sets with known truth (bench/proposals).
 * Prints
 * precision and recall for each set and over all, also without any values (names and types alone would be the floor:
 * the
 * same number of records, none in common), and the time. Settings: BENCH_SEED, BENCH_THINGS, and --wrong to list
 * mistakes.
 */
import { performance } from 'node:perf_hooks';
import { ObjectSketcher, proposePairs } from '@anchor-knot/core';
import { furtherSets } from './proposals/furtherSets.mjs';
import { sets } from './proposals/sets.mjs';
import { random, thing } from './proposals/world.mjs';

const things = Number(process.env.BENCH_THINGS ?? 400);
const seed = Number(process.env.BENCH_SEED ?? 11);
const shownWrong = process.argv.includes('--wrong');

/** Some values are missing in every system, and not the same ones. */
function withBlanks(record, roll) {
  return Object.fromEntries(
    Object.entries(record).map(([name, value], index) => [
      name,
      value !== null && typeof value === 'object' && !Array.isArray(value)
        ? withBlanks(value, roll)
        : index > 0 && roll() < 0.08
          ? null
          : value,
    ]),
  );
}

function sketch(make, numbers, roll) {
  const sketcher = new ObjectSketcher();
  for (const number of numbers) sketcher.add(withBlanks(make(thing(seed, number)), roll));
  return sketcher.sketch();
}

function judge(set, overlap) {
  const roll = random(seed * 31 + set.name.length);
  const common = Math.round(things * overlap);
  const left = sketch(
    set.left,
    Array.from({ length: things }, (_, index) => index + 1),
    roll,
  );
  const right = sketch(
    set.right,
    Array.from({ length: things }, (_, index) => things - common + index + 1),
    roll,
  );
  const started = performance.now();
  const { pairs, tied } = proposePairs(left, right);
  const took = performance.now() - started;
  const truth = new Set(set.same.map((pair) => pair.join(' = ')));
  const proposed = pairs.map(({ left: a, right: b, confidence }) => ({ text: `${a} = ${b}`, confidence }));
  const right_ = proposed.filter(({ text }) => truth.has(text)).length;
  if (shownWrong && overlap === set.overlap) {
    for (const { text, confidence } of proposed)
      if (!truth.has(text)) console.log(`    wrong   ${text}  (${confidence.toFixed(2)})`);
    for (const text of truth) if (!proposed.some((one) => one.text === text)) console.log(`    missing ${text}`);
  }
  return { right: right_, proposed: proposed.length, truth: truth.size, took, tied };
}

const percent = (part, whole) => (whole === 0 ? '–' : (part / whole).toFixed(3));

/** Judges a collection, set by set, and prints what is true of it as a whole. */
function measure(title, collection) {
  console.log(`\n${title}`);
  const sums = { all: { right: 0, proposed: 0, truth: 0 }, none: { right: 0, proposed: 0, truth: 0 } };
  for (const set of collection) {
    const found = judge(set, set.overlap);
    const without = judge(set, 0);
    for (const [sum, one] of [
      [sums.all, found],
      [sums.none, without],
    ])
      for (const key of ['right', 'proposed', 'truth']) sum[key] += one[key];
    const tied = found.tied.by ? `tied by ${found.tied.by.join(' = ')} (${found.tied.count})` : 'not tied';
    console.log(
      `${set.name}\n  precision ${percent(found.right, found.proposed)}  recall ` +
        `${percent(found.right, found.truth)}  (no record in common: ` +
        `${percent(without.right, without.proposed)}, ${percent(without.right, without.truth)})  ` +
        `${found.took.toFixed(0)} ms, ${tied}`,
    );
  }
  for (const [name, { right, proposed, truth }] of Object.entries({
    'over all': sums.all,
    'over all, no record in common': sums.none,
  })) {
    console.log(`${name}: precision ${percent(right, proposed)}  recall ${percent(right, truth)}`);
  }
}

measure('Sets written before the method, by its author', sets);
measure('Sets written by somebody who had not seen the method', furtherSets);
