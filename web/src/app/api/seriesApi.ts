import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type GivenNumbers,
  givenNumbersSchema,
  type KeepSeries,
  seriesListSchema,
  type SeriesView,
} from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { Calls, type Query } from './calls';

const seriesUrl = (id: string): string => `/api/series/${encodeURIComponent(id)}`;

/** Series of running numbers. */
@Injectable({ providedIn: 'root' })
export class SeriesApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  all(): Observable<SeriesView[]> {
    return this.#calls.get('/api/series', seriesListSchema).pipe(map(({ series }) => series));
  }
  numbers(id: string, query: Query): Observable<GivenNumbers> {
    return this.#calls.get(`${seriesUrl(id)}/numbers`, givenNumbersSchema, query);
  }
  keep(id: string, kept: KeepSeries): Observable<unknown> {
    return this.#http.put(seriesUrl(id), kept);
  }
  remove(id: string): Observable<unknown> {
    return this.#http.delete(seriesUrl(id));
  }
}
