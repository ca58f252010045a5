import {
  type AnchorId,
  type CompiledField,
  type FieldId,
  type MemberId,
  neededNumbers,
  type Numbers,
  type Planned,
  type Problem,
} from '@anchor-knot/core';
import type { Installation, RunOptions } from './installation.js';
import type { RunLease } from './lease.js';
import type { PlanEntry } from './stored.js';

/** A thing of a batch, and what it comes to with some numbers. */
export interface Unplanned {
  readonly id: AnchorId;
  readonly planWith: (numbers?: Numbers) => Planned;
}

/** What a thing comes to, with the numbers that it takes. */
export interface Numbered extends Planned {
  readonly numbers: PlanEntry['numbers'];
}

type NumberedField = CompiledField & { readonly series: string };

/** Stands for a number where the series has none left, to find out who needs one. */
const noneLeft = '?';

/**
 * Plans things together, with the numbers that they need now: some queries for each field that takes numbers, however
 * many things there are. A dry run shows the next ones, and takes none.
 */
export async function planNumbered(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  things: readonly Unplanned[],
): Promise<readonly Numbered[]> {
  const { store, clock } = installation;
  const { knot } = options;
  const plain = things.map(({ planWith }) => planWith());
  const fields = knot.fields.filter((field): field is NumberedField => field.series !== undefined);
  if (fields.length === 0) return plain.map((planned) => ({ ...planned, numbers: undefined }));
  const next = new Map<FieldId, readonly string[] | undefined>();
  for (const { id, series } of fields) next.set(id, await store.nextNumbers(series, 1, clock.now()));
  const trial = new Map(fields.map(({ id }) => [id, next.get(id)?.[0] ?? noneLeft]));
  const needed = things.map(({ planWith }, place) => neededNumbers(knot, plain[place] as Planned, planWith, trial));
  const taken = new Map<FieldId, ReadonlyMap<AnchorId, string>>();
  for (const { id, series } of fields) {
    const anchors = things.filter((_, place) => needed[place]?.includes(id)).map((thing) => thing.id);
    const wanted = { series, field: id, anchors, rule: ruleOf(knot.keyRules, id) };
    if (anchors.length === 0) taken.set(id, new Map());
    else if (options.kind === 'run') taken.set(id, await store.takeNumbers(lease, wanted, clock.now()));
    else {
      const shown = (await store.nextNumbers(series, anchors.length, clock.now())) ?? [];
      taken.set(id, new Map(shown.map((text, place) => [anchors[place] as AnchorId, text])));
    }
  }
  return things.map(({ id, planWith }, place): Numbered => {
    const mine = needed[place] ?? [];
    if (mine.length === 0) return { ...(plain[place] as Planned), numbers: undefined };
    const own = fields.filter((field) => mine.includes(field.id));
    const given = own.flatMap((field) => {
      const text = taken.get(field.id)?.get(id);
      return text === undefined ? [] : [{ field, text }];
    });
    const planned = given.length === 0 ? (plain[place] as Planned) : planWith(numbersOf(given));
    const without = own.filter((field) => !given.some((one) => one.field === field));
    return {
      ...planned,
      merge: {
        ...planned.merge,
        problems: [...planned.merge.problems, ...without.map((field) => noNumber(field, next.get(field.id)))],
      },
      numbers: given.map(({ field, text }) => ({ series: field.series, text })),
    };
  });
}

const numbersOf = (given: readonly { readonly field: NumberedField; readonly text: string }[]): Numbers =>
  new Map(given.map(({ field, text }) => [field.id, text]));

/** @param next what came next when it was asked; `undefined` where there is no such series */
function noNumber({ id, mappings }: NumberedField, next: readonly string[] | undefined): Problem {
  const [member] = [...mappings].find(([, { lens }]) => lens.writes) as [MemberId, unknown];
  const reason = next
    ? 'its series is at its last number: give that more digits, under Tables'
    : 'its series is not there any more: choose another one';
  return { member, field: id, kind: 'unwritable', raw: undefined, reason };
}

/** The key rule that compares a field alone: by it things are found that have a number of their own. */
function ruleOf(rules: RunOptions['knot']['keyRules'], field: FieldId) {
  const place = rules.findIndex(({ fields }) => fields.length === 1 && fields[0]?.field === field);
  const rule = rules[place];
  return rule && { place, rule };
}
