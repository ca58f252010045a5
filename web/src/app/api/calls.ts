import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import { map, type Observable } from 'rxjs';
import type { z } from 'zod';

export type Query = Record<string, string | number | boolean>;

/** Calls to the server whose answers are checked against the contracts: a view never works on something else. */
@Injectable({ providedIn: 'root' })
export class Calls {
  readonly #http = inject(HttpClient);

  get<T>(url: string, schema: z.ZodType<T>, query: Query = {}): Observable<T> {
    return this.#http.get(url, { params: query }).pipe(map((answer) => schema.parse(answer)));
  }
  post<T>(url: string, body: unknown, schema: z.ZodType<T>): Observable<T> {
    return this.#http.post(url, body).pipe(map((answer) => schema.parse(answer)));
  }
}

export const knotUrl = (knot: string): string => `/api/knots/${encodeURIComponent(knot)}`;

export function objectUrl(system: string, object: string): string {
  return `/api/systems/${encodeURIComponent(system)}/objects/${encodeURIComponent(object)}`;
}

/** Where people come back to from a consent at another system. */
export function callbackAddress(): string {
  return `${location.origin}/consent`;
}
