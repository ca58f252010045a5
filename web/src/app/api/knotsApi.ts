import { HttpClient, HttpEventType, type HttpDownloadProgressEvent } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type Accounts,
  accountsSchema,
  type Draft,
  draftSchema,
  type FirstLoads,
  firstLoadsSchema,
  type KeepTiming,
  keptTimingSchema,
  type KnotDefinition,
  type KnotList,
  type KnotState,
  knotListSchema,
  knotSchema,
  type KnotView,
  type ListedRecords,
  type LookUpAnswer,
  lookUpAnswerSchema,
  type LookUpRequest,
  listedRecordsSchema,
  knotViewSchema,
  type NewKnot,
  type Reading,
  type RecordAct,
  readingSchema,
  type DeepReadonly,
  type SaveDraft,
  type SurveyLine,
  surveyLineSchema,
  type MadeStartCall,
  madeStartCallSchema,
  type StartCall,
  startCallsSchema,
  type TimingView,
  timingViewSchema,
} from '@anchor-knot/contracts';
import { concatMap, map, type Observable } from 'rxjs';
import { z } from 'zod';
import { Calls, type Query, knotUrl } from './calls';

/** Knots: their drafts and versions, what their members hold, and the records of each list. */
@Injectable({ providedIn: 'root' })
export class KnotsApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  knots(): Observable<KnotList['knots']> {
    return this.#calls.get('/api/knots', knotListSchema).pipe(map(({ knots }) => knots));
  }
  /** What setting everything up takes, in its order. */
  firstLoads(): Observable<FirstLoads> {
    return this.#calls.get('/api/first-loads', firstLoadsSchema);
  }
  newKnot(knot: NewKnot): Observable<string> {
    return this.#http.post('/api/knots', knot).pipe(map((answer) => z.object({ knot: z.string() }).parse(answer).knot));
  }
  importKnot(file: unknown): Observable<string> {
    return this.#http
      .post('/api/knots/import', { file })
      .pipe(map((answer) => z.object({ knot: z.string() }).parse(answer).knot));
  }
  draft(knot: string): Observable<Draft> {
    return this.#calls.get(`${knotUrl(knot)}/draft`, draftSchema);
  }
  saveDraft(knot: string, draft: DeepReadonly<SaveDraft>): Observable<number> {
    return this.#http
      .put(`${knotUrl(knot)}/draft`, draft)
      .pipe(map((answer) => z.object({ revision: z.number() }).parse(answer).revision));
  }
  discardDraft(knot: string): Observable<unknown> {
    return this.#http.delete(`${knotUrl(knot)}/draft`);
  }
  version(knot: string, version: number): Observable<KnotDefinition> {
    return this.#calls
      .get(`${knotUrl(knot)}/versions/${version}`, z.object({ definition: knotSchema }))
      .pipe(map(({ definition }) => definition));
  }
  /** What keys and values mean in a knot that others refer to. */
  things(knot: string, asked: LookUpRequest): Observable<LookUpAnswer> {
    return this.#calls.post(`${knotUrl(knot)}/things`, asked, lookUpAnswerSchema);
  }
  /** Reads the objects of a knot's members. @param again also those that were read a short while ago */
  readKnot(knot: string, whole: boolean): Observable<Reading> {
    return this.#calls.post(`${knotUrl(knot)}/reading`, { whole }, readingSchema);
  }
  /**
   * Tries the draft that is kept on all records of its members; what it finds comes line by line. Unsubscribing ends
   * it.
   */
  survey(knot: string, learn: boolean): Observable<SurveyLine> {
    let read = 0;
    return this.#http
      .post(`${knotUrl(knot)}/survey`, { learn }, { observe: 'events', reportProgress: true, responseType: 'text' })
      .pipe(
        concatMap((event) => {
          const text =
            event.type === HttpEventType.DownloadProgress
              ? ((event as HttpDownloadProgressEvent).partialText ?? '')
              : event.type === HttpEventType.Response
                ? (event.body ?? '')
                : '';
          const end = text.lastIndexOf('\n') + 1;
          const lines = end > read ? text.slice(read, end).split('\n') : [];
          read = Math.max(read, end);
          return lines.filter((line) => line !== '').map((line) => surveyLineSchema.parse(JSON.parse(line)));
        }),
      );
  }
  /** Pauses a knot, ends it, or takes it up again. @param until when a pause ends by itself */
  setState(knot: string, state: KnotState, until?: Date): Observable<unknown> {
    return this.#http.put(`${knotUrl(knot)}/state`, { state, ...(until ? { until: until.toISOString() } : {}) });
  }
  timing(knot: string): Observable<TimingView> {
    return this.#calls.get(`${knotUrl(knot)}/timing`, timingViewSchema);
  }
  /** @returns the new revision */
  /** Pauses all that run, or takes up those that were paused so. @returns how many */
  setAllStates(state: 'running' | 'paused'): Observable<number> {
    return this.#http
      .put('/api/knot-states', { state })
      .pipe(map((answer) => z.object({ changed: z.number() }).parse(answer).changed));
  }
  startCalls(knot: string): Observable<readonly StartCall[]> {
    return this.#calls.get(`${knotUrl(knot)}/start-calls`, startCallsSchema).pipe(map(({ calls }) => calls));
  }
  makeStartCall(knot: string, name: string): Observable<MadeStartCall> {
    return this.#calls.post(`${knotUrl(knot)}/start-calls`, { name }, madeStartCallSchema);
  }
  removeStartCall(knot: string, call: string): Observable<unknown> {
    return this.#http.delete(`${knotUrl(knot)}/start-calls/${call}`);
  }
  keepTiming(knot: string, change: DeepReadonly<KeepTiming>): Observable<number> {
    return this.#http
      .put(`${knotUrl(knot)}/timing`, change)
      .pipe(map((answer) => keptTimingSchema.parse(answer).revision));
  }
  knot(id: string): Observable<KnotView> {
    return this.#calls.get(`/api/knots/${encodeURIComponent(id)}`, knotViewSchema);
  }
  accounts(knot: string): Observable<Accounts> {
    return this.#calls.get(`${knotUrl(knot)}/accounts`, accountsSchema);
  }
  /** @param query member and list; the key after which to begin */
  listedRecords(knot: string, query: Query): Observable<ListedRecords> {
    return this.#calls.get(`${knotUrl(knot)}/records`, listedRecordsSchema, query);
  }
  actOnRecord(knot: string, member: string, key: string, act: RecordAct['act']): Observable<{ anchor: string | null }> {
    const url = `${knotUrl(knot)}/records/${encodeURIComponent(member)}/${encodeURIComponent(key)}`;
    return this.#http
      .post(url, { act })
      .pipe(map((answer) => z.object({ anchor: z.string().nullable() }).parse(answer)));
  }
  /** @returns whether the version waits for the end of a run that is under way */
  putInForce(
    knot: string,
    change: { definition: KnotDefinition; basedOn: number; draft: number; note: string },
  ): Observable<boolean> {
    return this.#http
      .put(`${knotUrl(knot)}/definition`, change)
      .pipe(map((answer) => z.object({ waits: z.boolean() }).parse(answer).waits));
  }
}
