import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatPaginatorModule, type PageEvent } from '@angular/material/paginator';
import { RouterLink } from '@angular/router';
import { type SubstituteView, thingOf } from '@anchor-knot/contracts';
import { Subject } from 'rxjs';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { SubstitutesApi } from '../../api/substitutesApi';
import { tableParts } from '../../tables/rows';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { ListKeys } from '../listKeys';
import { State } from '../state';

/** What stands for whom? Said once where a reference waited; it holds until it is taken back here. */
@Component({
  selector: 'ak-substitutes',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, AgoTime, ListKeys, MatButtonModule, MatPaginatorModule, RouterLink, State],
  templateUrl: './substitutes.html',
  styleUrl: './substitutes.scss',
})
export class Substitutes {
  readonly sought = input('');
  readonly #api = inject(SubstitutesApi);
  readonly #telling = inject(Telling);
  readonly #changed = new Subject<void>();
  protected readonly session = inject(SessionService);
  protected readonly pageSize = 100;
  protected readonly page = linkedSignal({ source: this.sought, computation: () => 0 });
  readonly #question = computed(() => ({ search: this.sought(), skip: String(this.page() * this.pageSize) }));
  protected readonly list = load(this.#question, (question) => this.#api.list(question), this.#changed);

  protected readonly rows = computed(() =>
    (this.list.value()?.substitutes ?? []).map((one) => ({ ...one, thing: thingOf(one.of) })),
  );

  protected turn({ pageIndex }: PageEvent): void {
    this.page.set(pageIndex);
  }

  protected takeBack(one: SubstituteView): void {
    const of = typeof one.of === 'string' ? one.of : (one.of?.title ?? 'it');
    this.#api.takeBack(one.id).subscribe({
      next: () => {
        this.#changed.next();
        this.#telling.offer(`Nothing stands for ${of} any more.`, 'Undo').subscribe(() => this.#sayAgain(one));
      },
      error: (error: unknown) => {
        this.#changed.next();
        this.#telling.sayProblem(error, 'It was not taken back.');
      },
    });
  }

  #sayAgain({ knot, by, of, stands }: SubstituteView): void {
    const value = typeof of === 'string' ? of : null;
    const thing = typeof of === 'string' ? null : (of?.$thing ?? null);
    this.#api.say(knot, { by, value, thing, stands: stands?.$thing ?? null }).subscribe({
      next: () => this.#changed.next(),
      error: (error: unknown) => this.#telling.sayProblem(error, 'It was not said again.'),
    });
  }
}
