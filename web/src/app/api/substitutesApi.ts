import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type SaidSubstitute,
  saidSubstituteSchema,
  type SubstituteList,
  substituteListSchema,
  type SubstituteRequest,
} from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { Calls, knotUrl, type Query } from './calls';

/** What stands for things and values that references cannot go by. */
@Injectable({ providedIn: 'root' })
export class SubstitutesApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  list(query: Query): Observable<SubstituteList> {
    return this.#calls.get('/api/substitutes', substituteListSchema, query);
  }
  say(knot: string, substitute: SubstituteRequest): Observable<SaidSubstitute> {
    return this.#http
      .put(`${knotUrl(knot)}/substitutes`, substitute)
      .pipe(map((answer) => saidSubstituteSchema.parse(answer)));
  }
  takeBack(id: string): Observable<unknown> {
    return this.#http.delete(`/api/substitutes/${encodeURIComponent(id)}`);
  }
}
