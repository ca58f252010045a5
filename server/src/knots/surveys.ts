import type { KnotDefinition, SurveyLine } from '@anchor-knot/contracts';
import { SystemTrouble } from '@anchor-knot/connectors';
import { type IdentitySurvey, type Instant, type Knot, KnotSurvey, type MemberSurvey } from '@anchor-knot/core';
import type { Systems } from '../systems/systems.js';
import { systemClock } from '../worker/systemClock.js';

const progressMs = 250;

type Line =
  | Exclude<SurveyLine, { kind: 'member' | 'done' }>
  | { readonly kind: 'done'; readonly identity: IdentitySurvey }
  | { readonly kind: 'member'; readonly member: string; readonly survey: MemberSurvey };

/**
 * Tries a definition on all records of its members, one member after another, and tells how far it is. Nothing is kept and
 * nothing is written. Whoever stops listening ends it.
 */
export async function* surveyKnot(systems: Systems, definition: KnotDefinition, now: Instant): AsyncGenerator<Line> {
  const survey = new KnotSurvey(definition as Knot, now);
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
  yield { kind: 'done', identity: survey.identity() };
}
