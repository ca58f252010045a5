import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type ChangeSystem,
  type ConnectSystem,
  type Credential,
  type Deliveries,
  deliveriesSchema,
  type EntitySets,
  entitySetsSchema,
  type FileObject,
  type FilePreview,
  filePreviewSchema,
  type FolderFiles,
  folderFilesSchema,
  type NewField,
  type ObjectSummary,
  type ObjectView,
  objectViewSchema,
  type OpenApiReading,
  openApiReadingSchema,
  type Probe,
  probeSchema,
  type QueryPreview,
  queryPreviewSchema,
  type Sample,
  sampleSchema,
  systemSummarySchema,
  type SystemView,
  systemViewSchema,
  type Tables,
  tablesSchema,
  type TestSystem,
  type Units,
  unitsSchema,
} from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { z } from 'zod';
import { Calls, type Query, callbackAddress, objectUrl } from './calls';

/** Systems: what is connected, what is in it, and what is tried before it is connected. */
@Injectable({ providedIn: 'root' })
export class SystemsApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  systems() {
    return this.#calls
      .get('/api/systems', z.object({ systems: z.array(systemSummarySchema) }))
      .pipe(map(({ systems }) => systems));
  }
  system(id: string): Observable<SystemView> {
    return this.#calls.get(`/api/systems/${encodeURIComponent(id)}`, systemViewSchema);
  }
  object(system: string, object: string): Observable<ObjectView> {
    return this.#calls.get(objectUrl(system, object), objectViewSchema);
  }
  records(system: string, object: string, query: Query): Observable<Sample> {
    return this.#calls.get(`${objectUrl(system, object)}/records`, sampleSchema, query);
  }
  /** @param first so many records; all when left out */
  profile(system: string, object: string, first?: number): Observable<unknown> {
    return this.#http.post(`${objectUrl(system, object)}/profile`, first === undefined ? {} : { first });
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
  withdrawCredential(id: string): Observable<unknown> {
    return this.#http.delete(`/api/systems/${encodeURIComponent(id)}/credential`);
  }
  testSystem(test: TestSystem): Observable<Probe> {
    return this.#calls.post('/api/system-test', test, probeSchema);
  }
  probe(id: string): Observable<Probe> {
    return this.#calls.post(`/api/systems/${encodeURIComponent(id)}/probe`, {}, probeSchema);
  }
  tables(test: TestSystem): Observable<Tables> {
    return this.#calls.post('/api/database-tables', test, tablesSchema);
  }
  previewQuery(test: TestSystem & { sql: string }): Observable<QueryPreview> {
    return this.#calls.post('/api/query-preview', test, queryPreviewSchema);
  }
  entitySets(test: TestSystem): Observable<EntitySets> {
    return this.#calls.post('/api/entity-sets', test, entitySetsSchema);
  }
  units(test: TestSystem): Observable<Units> {
    return this.#calls.post('/api/units', test, unitsSchema);
  }
  folderFiles(test: TestSystem): Observable<FolderFiles> {
    return this.#calls.post('/api/folder-files', test, folderFilesSchema);
  }
  previewFile(test: TestSystem & { path: string; object: FileObject }): Observable<FilePreview> {
    return this.#calls.post('/api/file-preview', test, filePreviewSchema);
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
    return this.#calls.get(`/api/subscriptions/${subscription}/deliveries`, deliveriesSchema);
  }
  addField(system: string, object: string, field: NewField): Observable<string> {
    return this.#http
      .post(`${objectUrl(system, object)}/fields`, field)
      .pipe(map((answer) => z.object({ field: z.string() }).parse(answer).field));
  }
  readOpenApi(from: { document: string } | { address: string }): Observable<OpenApiReading> {
    return this.#calls.post('/api/openapi-reading', from, openApiReadingSchema);
  }
}
