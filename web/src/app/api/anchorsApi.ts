import { HttpClient, HttpErrorResponse } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type AnchorList,
  anchorListSchema,
  type AnchorRows,
  anchorRowsSchema,
  type AnchorView,
  anchorViewSchema,
  type Forecast,
  type ForecastRequest,
  forecastSchema,
  type FoundAnchors,
  foundAnchorsSchema,
  type Regroup,
} from '@anchor-knot/contracts';
import { catchError, map, throwError, type Observable } from 'rxjs';
import { Calls, type Query } from './calls';

/** Anchors: what all systems say of a thing, and the ties that a person changes. */
@Injectable({ providedIn: 'root' })
export class AnchorsApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  anchors(knot: string, query: Query): Observable<AnchorList> {
    return this.#calls.get(`/api/knots/${encodeURIComponent(knot)}/anchors`, anchorListSchema, query);
  }
  /** Some anchors of any knot, by at least two letters of their title or of a record's key. */
  find(search: string): Observable<FoundAnchors['anchors']> {
    return this.#calls.get('/api/anchors', foundAnchorsSchema, { search }).pipe(map(({ anchors }) => anchors));
  }
  anchor(id: string): Observable<AnchorView> {
    return this.#calls.get(`/api/anchors/${encodeURIComponent(id)}`, anchorViewSchema).pipe(
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
  /** What refers to an anchor, of a knot, from the how-manieth on. */
  rows(anchor: string, knot: string, skip: number): Observable<AnchorRows> {
    const path = `/api/anchors/${encodeURIComponent(anchor)}/rows/${encodeURIComponent(knot)}`;
    return this.#calls.get(path, anchorRowsSchema, { skip: String(skip) });
  }
  regroup(anchor: string, regroup: Regroup): Observable<unknown> {
    return this.#http.post(`/api/anchors/${encodeURIComponent(anchor)}/regroup`, regroup);
  }
  forecast(anchor: string, request: ForecastRequest): Observable<Forecast> {
    return this.#calls.post(`/api/anchors/${encodeURIComponent(anchor)}/forecast`, request, forecastSchema);
  }
  tie(anchor: string, member: string, key: string): Observable<unknown> {
    return this.#http.post(`/api/anchors/${encodeURIComponent(anchor)}/tie`, { member, key });
  }
}
