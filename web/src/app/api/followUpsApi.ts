import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  type FollowUp,
  type FollowUpList,
  followUpListSchema,
  type FollowUpPreview,
  followUpPreviewSchema,
  followUpRevisionSchema,
} from '@anchor-knot/contracts';
import { map, type Observable } from 'rxjs';
import { Calls } from './calls';

/** Mails about single records, after runs have written them. */
@Injectable({ providedIn: 'root' })
export class FollowUpsApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);

  followUps(): Observable<FollowUpList> {
    return this.#calls.get('/api/follow-ups', followUpListSchema);
  }
  /** @returns the new revision */
  keep(id: string, followUp: FollowUp, revision: number): Observable<number> {
    return this.#http
      .put(`/api/follow-ups/${id}`, { followUp, revision })
      .pipe(map((answer) => followUpRevisionSchema.parse(answer).revision));
  }
  remove(id: string): Observable<unknown> {
    return this.#http.delete(`/api/follow-ups/${id}`);
  }
  preview(followUp: FollowUp): Observable<FollowUpPreview> {
    return this.#http
      .post('/api/follow-ups/preview', followUp)
      .pipe(map((answer) => followUpPreviewSchema.parse(answer)));
  }
  test(id: string): Observable<unknown> {
    return this.#http.post(`/api/follow-ups/${id}/test`, {});
  }
}
