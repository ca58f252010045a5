import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { forkJoin, map } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { NoticesApi } from '../../api/noticesApi';
import { SessionService } from '../../api/session';
import { tableParts } from '../../tables/rows';
import { AgoTime } from '../../words/agoTime';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { ruleSentence } from './ruleWords';

/** Who is told of what. */
@Component({
  selector: 'ak-told-rules',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, AgoTime, ListKeys, MatButtonModule, RouterLink, State],
  templateUrl: './toldRules.html',
  styleUrl: './notices.scss',
})
export class ToldRules {
  readonly #api = inject(NoticesApi);
  readonly #knots = inject(KnotsApi);
  protected readonly session = inject(SessionService);
  protected readonly sentence = ruleSentence;
  protected readonly view = load(signal('now').asReadonly(), () =>
    forkJoin([this.#api.rules(), this.#knots.knots()]).pipe(
      map(([{ rules, noMail }, knots]) => ({
        rules,
        noMail,
        knotNames: new Map(knots.map(({ id, name }) => [id, name])),
      })),
    ),
  );
}
