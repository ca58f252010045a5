import { HttpClient, type HttpDownloadProgressEvent, HttpErrorResponse, HttpEventType } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type Accounts,
  accountsSchema,
  type AnchorList,
  anchorListSchema,
  type AnchorView,
  anchorViewSchema,
  type ChangeSystem,
  type Choice,
  type ConnectSystem,
  type Credential,
  type DecisionList,
  decisionListSchema,
  type Draft,
  draftSchema,
  type Deliveries,
  deliveriesSchema,
  type DuplicateList,
  duplicateListSchema,
  type EntitySets,
  entitySetsSchema,
  type FileObject,
  type FilePreview,
  filePreviewSchema,
  type FolderFiles,
  folderFilesSchema,
  type Forecast,
  type ForecastRequest,
  forecastSchema,
  type KnotDefinition,
  type KnotList,
  knotListSchema,
  knotSchema,
  type KnotView,
  type ListedRecords,
  listedRecordsSchema,
  knotViewSchema,
  type MatchRecords,
  matchRecordsSchema,
  type NewField,
  type NewKnot,
  type ObjectSummary,
  type ObjectView,
  objectViewSchema,
  type OpenApiReading,
  openApiReadingSchema,
  type OperationList,
  operationListSchema,
  type Probe,
  probeSchema,
  type Problem,
  problemSchema,
  type QueryPreview,
  queryPreviewSchema,
  type Reading,
  type RecordAct,
  readingSchema,
  type Regroup,
  runListSchema,
  type RunView,
  runViewSchema,
  type Sample,
  type SaveDraft,
  sampleSchema,
  startedRunSchema,
  systemSummarySchema,
  type SystemView,
  systemViewSchema,
  type Tables,
  tablesSchema,
  type SurveyLine,
  surveyLineSchema,
  type TestSystem,
  type Units,
  unitsSchema,
  type VerdictList,
  verdictListSchema,
  type Watch,
  watchSchema,
} from '@anchor-knot/contracts';
import { catchError, concatMap, map, type Observable, throwError } from 'rxjs';
import { z } from 'zod';

type Query = Record<string, string | number | boolean>;

/** All calls to the server. Answers are checked against the contracts, so a view never works on something else. */
@Injectable({ providedIn: 'root' })
export class Api {
  readonly #http = inject(HttpClient);

  watch(): Observable<Watch> {
    return this.#get('/api/watch', watchSchema);
  }
  systems() {
    return this.#get('/api/systems', z.object({ systems: z.array(systemSummarySchema) })).pipe(
      map(({ systems }) => systems),
    );
  }
  system(id: string): Observable<SystemView> {
    return this.#get(`/api/systems/${encodeURIComponent(id)}`, systemViewSchema);
  }
  object(system: string, object: string): Observable<ObjectView> {
    return this.#get(objectUrl(system, object), objectViewSchema);
  }
  records(system: string, object: string, query: Query): Observable<Sample> {
    return this.#get(`${objectUrl(system, object)}/records`, sampleSchema, query);
  }
  profile(system: string, object: string): Observable<unknown> {
    return this.#http.post(`${objectUrl(system, object)}/profile`, {});
  }
  sayHolds(system: string, object: string, holds: ObjectSummary['holds']): Observable<unknown> {
    return this.#http.put(`${objectUrl(system, object)}/holds`, { holds });
  }
  connectSystem(system: ConnectSystem): Observable<string> {
    return this.#http
      .post('/api/systems', system)
      .pipe(map((answer) => z.object({ system: z.string() }).parse(answer).system));
  }
  changeSystem(id: string, system: ChangeSystem): Observable<unknown> {
    return this.#http.put(`/api/systems/${encodeURIComponent(id)}`, system);
  }
  disconnectSystem(id: string): Observable<unknown> {
    return this.#http.delete(`/api/systems/${encodeURIComponent(id)}`);
  }
  replaceCredential(id: string, credential: Credential): Observable<unknown> {
    return this.#http.put(`/api/systems/${encodeURIComponent(id)}/credential`, credential);
  }
  knots(): Observable<KnotList['knots']> {
    return this.#get('/api/knots', knotListSchema).pipe(map(({ knots }) => knots));
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
    return this.#get(`${knotUrl(knot)}/draft`, draftSchema);
  }
  saveDraft(knot: string, draft: SaveDraft): Observable<number> {
    return this.#http
      .put(`${knotUrl(knot)}/draft`, draft)
      .pipe(map((answer) => z.object({ revision: z.number() }).parse(answer).revision));
  }
  discardDraft(knot: string): Observable<unknown> {
    return this.#http.delete(`${knotUrl(knot)}/draft`);
  }
  version(knot: string, version: number): Observable<KnotDefinition> {
    return this.#get(`${knotUrl(knot)}/versions/${version}`, z.object({ definition: knotSchema })).pipe(
      map(({ definition }) => definition),
    );
  }
  /** Reads the objects of a knot's members. @param again also those that were read a short while ago */
  readKnot(knot: string, whole: boolean): Observable<Reading> {
    return this.#http.post(`${knotUrl(knot)}/reading`, { whole }).pipe(map((answer) => readingSchema.parse(answer)));
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
  testSystem(test: TestSystem): Observable<Probe> {
    return this.#http.post('/api/system-test', test).pipe(map((answer) => probeSchema.parse(answer)));
  }
  probe(id: string): Observable<Probe> {
    return this.#http
      .post(`/api/systems/${encodeURIComponent(id)}/probe`, {})
      .pipe(map((answer) => probeSchema.parse(answer)));
  }
  tables(test: TestSystem): Observable<Tables> {
    return this.#http.post('/api/database-tables', test).pipe(map((answer) => tablesSchema.parse(answer)));
  }
  previewQuery(test: TestSystem & { sql: string }): Observable<QueryPreview> {
    return this.#http.post('/api/query-preview', test).pipe(map((answer) => queryPreviewSchema.parse(answer)));
  }
  entitySets(test: TestSystem): Observable<EntitySets> {
    return this.#http.post('/api/entity-sets', test).pipe(map((answer) => entitySetsSchema.parse(answer)));
  }
  units(test: TestSystem): Observable<Units> {
    return this.#http.post('/api/units', test).pipe(map((answer) => unitsSchema.parse(answer)));
  }
  folderFiles(test: TestSystem): Observable<FolderFiles> {
    return this.#http.post('/api/folder-files', test).pipe(map((answer) => folderFilesSchema.parse(answer)));
  }
  previewFile(test: TestSystem & { path: string; object: FileObject }): Observable<FilePreview> {
    return this.#http.post('/api/file-preview', test).pipe(map((answer) => filePreviewSchema.parse(answer)));
  }
  /** @returns where the person is to go */
  beginConsent(id: string): Observable<string> {
    return this.#http
      .post(`/api/systems/${encodeURIComponent(id)}/consent`, { callback: callbackAddress() })
      .pipe(map((answer) => z.object({ url: z.string() }).parse(answer).url));
  }
  /** @param answer the query with which the person came back. @returns the system */
  endConsent(answer: string): Observable<string> {
    return this.#http
      .post('/api/consents', { answer })
      .pipe(map((ended) => z.object({ system: z.string() }).parse(ended).system));
  }
  giveConsentBack(id: string): Observable<unknown> {
    return this.#http.delete(`/api/systems/${encodeURIComponent(id)}/consent`);
  }
  subscribeTo(system: string, object: string): Observable<unknown> {
    return this.#http.post(`${objectUrl(system, object)}/subscription`, {});
  }
  endSubscription(system: string, object: string): Observable<unknown> {
    return this.#http.delete(`${objectUrl(system, object)}/subscription`);
  }
  checkSubscriptions(system: string): Observable<unknown> {
    return this.#http.post(`/api/systems/${encodeURIComponent(system)}/subscriptions/check`, {});
  }
  deliveries(subscription: string): Observable<Deliveries> {
    return this.#get(`/api/subscriptions/${subscription}/deliveries`, deliveriesSchema);
  }
  addField(system: string, object: string, field: NewField): Observable<string> {
    return this.#http
      .post(`${objectUrl(system, object)}/fields`, field)
      .pipe(map((answer) => z.object({ field: z.string() }).parse(answer).field));
  }
  readOpenApi(from: { document: string } | { address: string }): Observable<OpenApiReading> {
    return this.#http.post('/api/openapi-reading', from).pipe(map((answer) => openApiReadingSchema.parse(answer)));
  }
  knot(id: string): Observable<KnotView> {
    return this.#get(`/api/knots/${encodeURIComponent(id)}`, knotViewSchema);
  }
  anchors(knot: string, query: Query): Observable<AnchorList> {
    return this.#get(`/api/knots/${encodeURIComponent(knot)}/anchors`, anchorListSchema, query);
  }
  anchor(id: string): Observable<AnchorView> {
    return this.#get(`/api/anchors/${encodeURIComponent(id)}`, anchorViewSchema).pipe(
      catchError((error: unknown) => {
        // It was merged into another one: that one is shown.
        const moved =
          error instanceof HttpErrorResponse && error.status === 410
            ? (error.error as { movedTo?: string }).movedTo
            : undefined;
        return moved === undefined ? throwError(() => error) : this.anchor(moved);
      }),
    );
  }
  regroup(anchor: string, regroup: Regroup): Observable<unknown> {
    return this.#http.post(`/api/anchors/${encodeURIComponent(anchor)}/regroup`, regroup);
  }
  forecast(anchor: string, request: ForecastRequest): Observable<Forecast> {
    return this.#http
      .post(`/api/anchors/${encodeURIComponent(anchor)}/forecast`, request)
      .pipe(map((answer) => forecastSchema.parse(answer)));
  }
  tie(anchor: string, member: string, key: string): Observable<unknown> {
    return this.#http.post(`/api/anchors/${encodeURIComponent(anchor)}/tie`, { member, key });
  }
  decisions(query: Query): Observable<DecisionList> {
    return this.#get('/api/decisions', decisionListSchema, query);
  }
  decide(knot: string, decision: string, choice: Choice): Observable<unknown> {
    return this.#http.post(`/api/knots/${encodeURIComponent(knot)}/decisions/${decision}`, choice);
  }
  undoDecision(knot: string, decision: string): Observable<unknown> {
    return this.#http.post(`${knotUrl(knot)}/decisions/${decision}/undo`, {});
  }
  matchRecords(knot: string, decision: string): Observable<MatchRecords> {
    return this.#get(`${knotUrl(knot)}/decisions/${decision}/records`, matchRecordsSchema);
  }
  duplicates(knot: string, query: Query): Observable<DuplicateList> {
    return this.#get(`${knotUrl(knot)}/duplicates`, duplicateListSchema, query);
  }
  accounts(knot: string): Observable<Accounts> {
    return this.#get(`${knotUrl(knot)}/accounts`, accountsSchema);
  }
  /** @param query member and list; the key after which to begin */
  listedRecords(knot: string, query: Query): Observable<ListedRecords> {
    return this.#get(`${knotUrl(knot)}/records`, listedRecordsSchema, query);
  }
  actOnRecord(knot: string, member: string, key: string, act: RecordAct['act']): Observable<{ anchor: string | null }> {
    const url = `${knotUrl(knot)}/records/${encodeURIComponent(member)}/${encodeURIComponent(key)}`;
    return this.#http
      .post(url, { act })
      .pipe(map((answer) => z.object({ anchor: z.string().nullable() }).parse(answer)));
  }
  takeIn(knot: string, member: string, key: string): Observable<unknown> {
    return this.#http.post(`${knotUrl(knot)}/set-aside/take-back`, { member, key });
  }
  verdicts(knot: string, query: Query): Observable<VerdictList> {
    return this.#get(`${knotUrl(knot)}/verdicts`, verdictListSchema, query);
  }
  takeBackVerdict(knot: string, verdict: string): Observable<unknown> {
    return this.#http.delete(`${knotUrl(knot)}/verdicts/${verdict}`);
  }
  runs(query: Query) {
    return this.#get('/api/runs', runListSchema, query);
  }
  run(id: string): Observable<RunView> {
    return this.#get(`/api/runs/${encodeURIComponent(id)}`, runViewSchema);
  }
  operations(run: string, query: Query): Observable<OperationList> {
    return this.#get(`/api/runs/${encodeURIComponent(run)}/operations`, operationListSchema, query);
  }
  startRun(
    knot: string,
    kind: 'run' | 'dry run',
    more: { overGuards?: boolean; full?: boolean } = {},
  ): Observable<string> {
    return this.#http
      .post(`/api/knots/${encodeURIComponent(knot)}/runs`, { kind, ...more })
      .pipe(map((answer) => startedRunSchema.parse(answer).run));
  }
  stopRun(run: string): Observable<unknown> {
    return this.#http.post(`/api/runs/${run}/stop`, {});
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

  #get<T>(url: string, schema: z.ZodType<T>, query: Query = {}): Observable<T> {
    return this.#http.get(url, { params: query }).pipe(map((answer) => schema.parse(answer)));
  }
}

function objectUrl(system: string, object: string): string {
  return `/api/systems/${encodeURIComponent(system)}/objects/${encodeURIComponent(object)}`;
}

/** What an error says to the person who met it. */
export function problemOf(error: unknown): Problem {
  if (error instanceof HttpErrorResponse) {
    const parsed = problemSchema.safeParse(error.error);
    if (parsed.success) return parsed.data;
    if (error.status === 0)
      return {
        code: 'unreachable',
        says: 'The server cannot be reached.',
        advice: 'See whether it is running; this page tries again by itself when you do something.',
      };
    return { code: 'fault', says: `The server answered ${error.status}.` };
  }
  return { code: 'fault', says: error instanceof Error ? error.message.slice(0, 300) : String(error) };
}

const knotUrl = (knot: string): string => `/api/knots/${encodeURIComponent(knot)}`;

/** Where people come back to from a consent at another system. */
export function callbackAddress(): string {
  return `${location.origin}/consent`;
}
