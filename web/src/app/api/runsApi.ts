import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type ExchangeList,
  exchangeListSchema,
  type OperationList,
  operationListSchema,
  runListSchema,
  type RunView,
  runViewSchema,
  startedRunSchema,
  type StartedTogether,
  startedTogetherSchema,
  type Watch,
  watchSchema,
} from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { Calls, type Query } from './calls';

/** Over the guards this once; all records, not only what changed; of these members, or records, alone. */
export interface StartOptions {
  readonly overGuards?: boolean;
  readonly full?: boolean;
  readonly members?: readonly string[];
  /** These records alone. */
  readonly records?: readonly { readonly member: string; readonly key: string }[];
}

/** Runs: how things stand, what ran, and what was written. */
@Injectable({ providedIn: 'root' })
export class RunsApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  watch(): Observable<Watch> {
    return this.#calls.get('/api/watch', watchSchema);
  }
  runs(query: Query) {
    return this.#calls.get('/api/runs', runListSchema, query);
  }
  run(id: string): Observable<RunView> {
    return this.#calls.get(`/api/runs/${encodeURIComponent(id)}`, runViewSchema);
  }
  operations(run: string, query: Query): Observable<OperationList> {
    return this.#calls.get(`/api/runs/${encodeURIComponent(run)}/operations`, operationListSchema, query);
  }
  startRun(knot: string, kind: 'run' | 'dry run', more: StartOptions = {}): Observable<string> {
    return this.#http
      .post(`/api/knots/${encodeURIComponent(knot)}/runs`, { kind, ...more })
      .pipe(map((answer) => startedRunSchema.parse(answer).run));
  }
  /** A run of every knot that runs, or of some of them, in the order in which they go together. */
  startTogether(kind: 'run' | 'dry run', knots?: readonly string[]): Observable<StartedTogether['runs']> {
    return this.#calls
      .post('/api/runs/together', { kind, ...(knots ? { knots } : {}) }, startedTogetherSchema)
      .pipe(map(({ runs }) => runs));
  }
  exchanges(run: string, query: Query): Observable<ExchangeList> {
    return this.#calls.get(`/api/runs/${encodeURIComponent(run)}/exchanges`, exchangeListSchema, query);
  }
  /** Keeps the calls of so many runs to come. */
  keepDetail(knot: string, runs: number): Observable<unknown> {
    return this.#http.put(`/api/knots/${encodeURIComponent(knot)}/detail`, { runs });
  }
  stopRun(run: string): Observable<unknown> {
    return this.#http.post(`/api/runs/${run}/stop`, {});
  }
}
