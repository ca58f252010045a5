import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { FollowUp, KnotView } from '@anchor-knot/contracts';
import { forkJoin, map, type Observable, of, switchMap } from 'rxjs';
import { FollowUpsApi } from '../../api/followUpsApi';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { tableParts } from '../../tables/rows';
import { AgoTime } from '../../words/agoTime';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { recordMailSentence } from './recordMailForm';

/** What a mail about records names, in people's words. */
export function namesIn({ knot: id, member, addressField }: FollowUp, knots: readonly KnotView[]) {
  const knot = knots.find((one) => one.id === id);
  return {
    knot: knot?.name ?? id,
    system: knot?.members.find((one) => one.id === member)?.systemName ?? member,
    field: knot?.definition.fields.find((one) => one.id === addressField)?.name ?? addressField ?? '',
  };
}

/** The knots that are in force, each with its members and fields. */
export function knotsInForce(api: KnotsApi): Observable<readonly KnotView[]> {
  return api.knots().pipe(
    map((knots) => knots.filter(({ version }) => version > 0)),
    switchMap((knots) => (knots.length === 0 ? of([]) : forkJoin(knots.map(({ id }) => api.knot(id))))),
  );
}

/** Mails about single records: after what, and to whom. */
@Component({
  selector: 'ak-record-mails',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, AgoTime, ListKeys, MatButtonModule, RouterLink, State],
  templateUrl: './recordMails.html',
  styleUrl: './notices.scss',
})
export class RecordMails {
  readonly #api = inject(FollowUpsApi);
  readonly #knots = inject(KnotsApi);
  protected readonly session = inject(SessionService);
  protected readonly view = load(signal('now').asReadonly(), () =>
    forkJoin([this.#api.followUps(), knotsInForce(this.#knots)]).pipe(
      map(([{ followUps, noMail }, knots]) => ({
        noMail,
        mails: followUps.map((kept) => ({
          ...kept,
          sentence: recordMailSentence(kept.followUp, namesIn(kept.followUp, knots)),
        })),
      })),
    ),
  );
}
