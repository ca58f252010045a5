import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import type { AnchorList, AnchorView, Forecast, ForecastRequest } from '@anchor-knot/contracts';
import { debounceTime, of, Subject, switchMap } from 'rxjs';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { Pennant } from '../../pennant/pennant';
import { forecastWords } from './forecastWords';

type Member = AnchorView['members'][number];

const typingPauseMs = 250;
const shownHits = 6;

/** Ties that a person makes and takes apart; what the next run would do is worked out and said before. */
@Component({
  selector: 'ak-hand-ties',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, Pennant],
  templateUrl: './handTies.html',
  styleUrl: './handTies.scss',
})
export class HandTies {
  readonly anchor = input.required<AnchorView>();
  readonly changed = output();
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  readonly #searches = new Subject<string>();
  protected readonly asking = new Asking();
  /** Members whose records are chosen to be parted. */
  protected readonly chosen = signal<ReadonlySet<string>>(new Set());
  /** The member in which a record is to be tied. */
  protected readonly tying = signal('');
  protected readonly merging = signal(false);
  protected readonly hits = signal<AnchorList['anchors']>([]);
  /** Whether a search was answered. */
  protected readonly searched = signal(false);
  /** What was asked about, and what would follow. */
  protected readonly asked = signal<ForecastRequest | undefined>(undefined);
  readonly #forecast = signal<Forecast | undefined>(undefined);
  protected readonly tied = computed(() => this.anchor().members.filter(({ key, gone }) => key !== null && !gone));
  protected readonly lines = computed(() => {
    const [forecast, { members, thing }] = [this.#forecast(), this.anchor()];
    return forecast ? forecastWords(forecast, members, thing) : [];
  });

  constructor() {
    this.#searches
      .pipe(
        debounceTime(typingPauseMs),
        switchMap((search) =>
          search.trim() === '' ? of(undefined) : this.#api.anchors(this.anchor().knot, { search }),
        ),
        takeUntilDestroyed(),
      )
      .subscribe((found) => {
        this.searched.set(found !== undefined);
        this.hits.set((found?.anchors ?? []).filter(({ id }) => id !== this.anchor().id).slice(0, shownHits));
      });
  }

  protected isAsked(kind: ForecastRequest['kind']): boolean {
    return this.asked()?.kind === kind;
  }
  protected keysOf({ ties }: AnchorList['anchors'][number]): string {
    return ties.map(({ key }) => key).join(' · ');
  }
  protected choose(member: string, isChosen: boolean): void {
    this.forget();
    const chosen = new Set(this.chosen());
    if (isChosen) chosen.add(member);
    else chosen.delete(member);
    this.chosen.set(chosen);
    this.tying.set('');
    this.merging.set(false);
  }
  protected beginTying(member: string): void {
    this.leave();
    this.tying.set(member);
  }
  protected search(text: string): void {
    this.forget();
    this.#searches.next(text);
  }
  protected forget(): void {
    this.asked.set(undefined);
    this.asking.problem.set(undefined);
  }
  protected leave(): void {
    this.forget();
    this.chosen.set(new Set());
    this.tying.set('');
    this.merging.set(false);
    this.hits.set([]);
    this.searched.set(false);
  }

  protected ask(request: ForecastRequest): void {
    this.asking.ask(this.#api.forecast(this.anchor().id, request), (forecast) => {
      this.#forecast.set(forecast);
      this.asked.set(request);
    });
  }

  protected act(request: ForecastRequest): void {
    const { id, members } = this.anchor();
    const keyIn = (member: string): string => members.find((one) => one.id === member)?.key ?? '';
    switch (request.kind) {
      case 'tie':
        this.#tie(
          [{ member: request.member, key: request.key }],
          `Record ${request.key.trim()} is tied. The next run merges it.`,
        );
        break;
      case 'split': {
        const parted = request.members.map((member) => ({ member, key: keyIn(member) }));
        this.asking.ask(this.#api.regroup(id, request), () =>
          this.#done(
            parted.length === 1
              ? `Record ${parted[0]?.key ?? ''} is untied. The next run takes it as a thing of its own.`
              : `${parted.length} records are untied. The next run takes them as a thing of their own.`,
            () => this.#tie(parted, 'Tied again.'),
          ),
        );
        break;
      }
      case 'merge': {
        const before = new Set(this.tied().map((member: Member) => member.id));
        const came = (this.#forecast()?.anchors[0]?.records ?? [])
          .map(({ member }) => member)
          .filter((member) => !before.has(member));
        this.asking.ask(this.#api.regroup(id, request), () =>
          this.#done('They are one anchor. The next run merges what they hold.', () =>
            this.asking.ask(this.#api.regroup(id, { kind: 'split', members: came }), () =>
              this.#done('They are apart again; the next run makes two of them.'),
            ),
          ),
        );
        break;
      }
      default:
        throw new Error(`unknown regrouping ${JSON.stringify(request satisfies never)}`);
    }
  }

  /** One after the other: each changes the anchor. */
  #tie([first, ...rest]: readonly { readonly member: string; readonly key: string }[], says: string): void {
    if (!first) return this.#done(says);
    this.asking.ask(this.#api.tie(this.anchor().id, first.member, first.key), () => this.#tie(rest, says));
  }

  #done(says: string, undo?: () => void): void {
    this.leave();
    this.changed.emit();
    const shown = this.#snack.open(says, undo ? 'Undo' : 'Close', { duration: 12_000 });
    if (undo) shown.onAction().subscribe(undo);
  }
}
