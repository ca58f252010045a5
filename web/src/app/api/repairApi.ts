import { HttpClient, HttpParams } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import { type FailureGroup, type Repair, repairSchema, type TakenIn, takenInSchema } from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { Calls, type Query } from './calls';

type GroupName = Pick<FailureGroup, 'knot' | 'kind' | 'member' | 'field' | 'reason'>;

/** What failed, by why it did, and its records in a file that is corrected and taken in again. */
@Injectable({ providedIn: 'root' })
export class RepairApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  groups(query: Query): Observable<Repair> {
    return this.#calls.get('/api/repair', repairSchema, query);
  }
  /** @returns CSV */
  file(group: GroupName): Observable<string> {
    return this.#http.get('/api/repair/file', { params: paramsOf(group), responseType: 'text' });
  }
  /** @param text CSV, with what is to stand there */
  takeIn(group: GroupName, text: string): Observable<TakenIn> {
    return this.#http
      .post('/api/repair/file', text, { params: paramsOf(group), headers: { 'content-type': 'text/csv' } })
      .pipe(map((answer) => takenInSchema.parse(answer)));
  }
}

function paramsOf({ knot, kind, member, field, reason }: GroupName): HttpParams {
  return new HttpParams({ fromObject: { knot, kind, member, reason, ...(field === null ? {} : { field }) } });
}
