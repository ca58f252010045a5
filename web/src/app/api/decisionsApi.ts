import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type Choice,
  type Colleague,
  colleaguesSchema,
  type Correction,
  type DecidedMany,
  decidedManySchema,
  type DecideMany,
  type Decision,
  type DecisionList,
  type DecisionName,
  decisionSchema,
  decisionListSchema,
  type DuplicateList,
  duplicateListSchema,
  type LackedList,
  lackedListSchema,
  type MatchRecords,
  matchRecordsSchema,
  type MemberSummary,
  memberSummarySchema,
  type RecordToCorrect,
  recordToCorrectSchema,
  type VerdictList,
  verdictListSchema,
} from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { z } from 'zod';
import { Calls, type Query, knotUrl } from './calls';

/** What waits for a person, and what people said: decisions, duplicates, verdicts. */
@Injectable({ providedIn: 'root' })
export class DecisionsApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  decisions(query: Query): Observable<DecisionList> {
    return this.#calls.get('/api/decisions', decisionListSchema, query);
  }
  /** What references wait for. */
  lacked(query: Query): Observable<LackedList> {
    return this.#calls.get('/api/decisions/lacked', lackedListSchema, query);
  }
  decide(knot: string, decision: string, choice: Choice): Observable<unknown> {
    return this.#http.post(`/api/knots/${encodeURIComponent(knot)}/decisions/${decision}`, choice);
  }
  undoDecision(knot: string, decision: string): Observable<unknown> {
    return this.#http.post(`${knotUrl(knot)}/decisions/${decision}/undo`, {});
  }
  /** One that is open, in whatever list it stands, with the members of its knot. */
  decision(id: string): Observable<{ decision: Decision; members: MemberSummary[] }> {
    const schema = z.object({ decision: decisionSchema, members: z.array(memberSummarySchema) });
    return this.#calls.get(`/api/decisions/${encodeURIComponent(id)}`, schema);
  }
  decideMany(many: DecideMany): Observable<DecidedMany> {
    return this.#calls.post('/api/decisions/decide', many, decidedManySchema);
  }
  /** Tries again all writes that were refused as this one was. */
  tryAlikeAgain({ knot, id, fingerprint }: Pick<Decision, 'knot' | 'id' | 'fingerprint'>): Observable<DecidedMany> {
    const path = `/api/knots/${encodeURIComponent(knot)}/decisions/${encodeURIComponent(id)}/alike`;
    return this.#calls.post(path, { fingerprint }, decidedManySchema);
  }
  undoMany(decisions: readonly DecisionName[]): Observable<DecidedMany> {
    return this.#calls.post('/api/decisions/undo', { decisions }, decidedManySchema);
  }
  /** @param until ISO 8601; null where they are to wait again */
  putOff(decisions: readonly DecisionName[], until: string | null): Observable<number> {
    return this.#changed('/api/decisions/put-off', { decisions, until });
  }
  /** @param to the email of a colleague; null takes it back */
  give(decisions: readonly DecisionName[], to: string | null, note: string): Observable<number> {
    return this.#changed('/api/decisions/give', { decisions, to, note });
  }
  colleagues(): Observable<readonly Colleague[]> {
    return this.#calls.get('/api/colleagues', colleaguesSchema).pipe(map(({ people }) => people));
  }
  recordToCorrect(knot: string, decision: string): Observable<RecordToCorrect> {
    return this.#calls.get(`${knotUrl(knot)}/decisions/${decision}/record`, recordToCorrectSchema);
  }
  correct(knot: string, decision: string, correction: Correction): Observable<unknown> {
    return this.#http.post(`${knotUrl(knot)}/decisions/${decision}/correct`, correction);
  }
  matchRecords(knot: string, decision: string): Observable<MatchRecords> {
    return this.#calls.get(`${knotUrl(knot)}/decisions/${decision}/records`, matchRecordsSchema);
  }
  duplicates(knot: string, query: Query): Observable<DuplicateList> {
    return this.#calls.get(`${knotUrl(knot)}/duplicates`, duplicateListSchema, query);
  }
  takeIn(knot: string, member: string, key: string): Observable<unknown> {
    return this.#http.post(`${knotUrl(knot)}/set-aside/take-back`, { member, key });
  }
  verdicts(knot: string, query: Query): Observable<VerdictList> {
    return this.#calls.get(`${knotUrl(knot)}/verdicts`, verdictListSchema, query);
  }
  takeBackVerdict(knot: string, verdict: string): Observable<unknown> {
    return this.#http.delete(`${knotUrl(knot)}/verdicts/${verdict}`);
  }

  #changed(url: string, body: unknown): Observable<number> {
    return this.#calls.post(url, body, z.object({ changed: z.number() })).pipe(map(({ changed }) => changed));
  }
}
