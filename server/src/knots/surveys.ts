import type { KnotDefinition, SurveyLine } from '@anchor-knot/contracts';
import { SystemTrouble } from '@anchor-knot/connectors';
import {
  type IdentitySurvey,
  type Instant,
  type Knot,
  KnotSurvey,
  type MemberSurvey,
  surveyIdentity,
  type SurveyedRecord,
} from '@anchor-knot/core';
import { compareRecords } from '../matching/compareRecords.js';
import { inSteps } from '../matching/inSteps.js';
import type { Systems } from '../systems/systems.js';
import { systemClock } from '../worker/systemClock.js';

const progressMs = 250;
/** So many records are compared by evidence at the most: they are all held in memory. */
const mostCompared = 400_000;

type Line =
  | Exclude<SurveyLine, { kind: 'member' | 'done' }>
  | { readonly kind: 'done'; readonly identity: IdentitySurvey }
  | { readonly kind: 'member'; readonly member: string; readonly survey: MemberSurvey };

/**
 * Tries a definition on all records of its members, one member after another, then compares them by evidence, and tells
 * how far it is. Nothing is kept and nothing is written. Whoever stops listening ends it.
 * @param learn whether weights are learned anew; otherwise those of the definition are used, where it has some
 */
export async function* surveyKnot(
  systems: Systems,
  definition: KnotDefinition,
  learn: boolean,
  now: Instant,
): AsyncGenerator<Line> {
  const knot = definition as Knot;
  const survey = new KnotSurvey(knot, now);
  let told = 0;
  for (const { id, system, object } of definition.members) {
    let records = 0;
    yield { kind: 'progress', member: id, records };
    try {
      const connector = await systems.connect({ system, object }, systemClock);
      const stop = new AbortController();
      try {
        for await (const page of connector.read({ signal: stop.signal })) {
          survey.add(id, page.records);
          records += page.records.length;
          if (Date.now() - told < progressMs) continue;
          told = Date.now();
          yield { kind: 'progress', member: id, records };
        }
      } finally {
        stop.abort();
        await connector.close().catch(() => undefined);
      }
      const result = survey.member(id);
      if (result) yield { kind: 'member', member: id, survey: result };
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      yield { kind: 'trouble', member: id, says: `${error.message}. ${error.advice}` };
    }
  }
  const records = survey.records();
  const { evidence } = knot;
  if (!evidence || evidence.fields.length === 0 || evidence.fields.some(({ fields }) => fields.length === 0)) {
    yield { kind: 'done', identity: await inSteps(surveyIdentity(knot, records)) };
    return;
  }
  const compared = firstOfEach(knot, records);
  const memberAt = new Map(knot.members.map(({ id }, index) => [id, index]));
  const stop = new AbortController();
  let progress = { done: 0, total: compared.length };
  const working = compareRecords({
    evidence: evidence.fields,
    texts: compared.map(({ texts }) => texts),
    memberOf: compared.map(({ member }) => memberAt.get(member) ?? 0),
    members: knot.members.length,
    newcomers: compared.length,
    withinMembers: true,
    ...(learn || !evidence.weights ? {} : { weights: evidence.weights }),
    signal: stop.signal,
    onProgress: (done, total) => (progress = { done, total }),
  }).then((result) => inSteps(surveyIdentity(knot, compared, { evidence, ...result }), stop.signal));
  // Told by and by: what it comes to is awaited below.
  working.catch(() => undefined);
  try {
    for (let isDone = false; !isDone;) {
      yield { kind: 'comparing', ...progress };
      isDone = await Promise.race([
        working.then(() => true),
        new Promise<false>((resolve) => void setTimeout(resolve, progressMs, false)),
      ]);
    }
    yield { kind: 'done', identity: await working };
  } finally {
    stop.abort();
  }
}

/** All records, or as many of each member as may be compared. */
function firstOfEach({ members }: Knot, records: readonly SurveyedRecord[]): readonly SurveyedRecord[] {
  if (records.length <= mostCompared) return records;
  const each = Math.floor(mostCompared / members.length);
  const taken = new Map<string, number>();
  return records.filter(({ member }) => {
    const count = (taken.get(member) ?? 0) + 1;
    taken.set(member, count);
    return count <= each;
  });
}
