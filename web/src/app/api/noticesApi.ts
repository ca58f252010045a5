import { HttpClient } from '@angular/common/http';
import { inject, Injectable } from '@angular/core';
import {
  keptRuleSchema,
  type MessageList,
  messageListSchema,
  type NoticeList,
  noticeListSchema,
  type NoticeRule,
  type NoticeRules,
  noticeRulesSchema,
  unreadSchema,
} from '@anchor-knot/contracts';
import { map, type Observable, Subject, tap } from 'rxjs';
import type { z } from 'zod';
import { Calls, type Query } from './calls';

/** What needs somebody, who is told of it, and what was sent. */
@Injectable({ providedIn: 'root' })
export class NoticesApi {
  readonly #calls = inject(Calls);
  readonly #http = inject(HttpClient);
  /** The person has seen some of them. */
  readonly seen = new Subject<void>();

  notices(query: Query): Observable<NoticeList> {
    return this.#calls.get('/api/notices', noticeListSchema, query);
  }
  unread(): Observable<number> {
    return this.#calls.get('/api/notices/unread', unreadSchema).pipe(map(({ unread }) => unread));
  }
  markSeen(through: string): Observable<unknown> {
    return this.#http.post('/api/notices/read', { through }).pipe(tap(() => this.seen.next()));
  }
  rules(): Observable<NoticeRules> {
    return this.#calls.get('/api/notice-rules', noticeRulesSchema);
  }
  keepRule(id: string, rule: NoticeRule, revision: number): Observable<z.output<typeof keptRuleSchema>> {
    return this.#http
      .put(`/api/notice-rules/${id}`, { rule, revision })
      .pipe(map((answer) => keptRuleSchema.parse(answer)));
  }
  removeRule(id: string): Observable<unknown> {
    return this.#http.delete(`/api/notice-rules/${id}`);
  }
  testRule(id: string): Observable<unknown> {
    return this.#http.post(`/api/notice-rules/${id}/test`, {});
  }
  messages(query: Query): Observable<MessageList> {
    return this.#calls.get('/api/notice-messages', messageListSchema, query);
  }
  sendAgain(message: string): Observable<unknown> {
    return this.#http.post(`/api/notice-messages/${message}/again`, {});
  }
}
