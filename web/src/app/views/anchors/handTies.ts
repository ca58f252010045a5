import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import type { AnchorList, AnchorView, Forecast, ForecastRequest } from '@anchor-knot/contracts';
import { catchError, debounceTime, filter, type Observable, of, switchMap, tap } from 'rxjs';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { AnchorsApi } from '../../api/anchorsApi';
import { Asking } from '../../api/asking';
import { problemOf } from '../../api/problems';
import { isFilled } from '../../fields/validators';
import { Pennant } from '../../pennant/pennant';
import { Telling } from '../../telling/telling';
import { forecastWords } from './forecastWords';
import { ProblemText } from '../problem';

type Member = AnchorView['members'][number];
type Found = AnchorList['anchors'][number];

const typingPauseMs = 250;
const shownHits = 6;

/** Ties that a person makes and takes apart; what the next run would do is worked out and said before. */
@Component({
  selector: 'ak-hand-ties',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatAutocompleteModule,
    MatButtonModule,
    MatCheckboxModule,
    MatFormFieldModule,
    MatInputModule,
    ReactiveFormsModule,
    Pennant,
  ],
  templateUrl: './handTies.html',
  styleUrl: './handTies.scss',
})
export class HandTies {
  readonly anchor = input.required<AnchorView>();
  readonly changed = output();
  readonly #api = inject(AnchorsApi);
  readonly #telling = inject(Telling);
  protected readonly key = new FormControl('', { nonNullable: true, validators: [isFilled] });
  /** A text, or the anchor that was chosen. */
  protected readonly sought = new FormControl<string | Found>('', { nonNullable: true });
  protected readonly titleOf = (chosen: string | Found): string => (typeof chosen === 'string' ? chosen : chosen.title);
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
    this.key.valueChanges.pipe(takeUntilDestroyed()).subscribe(() => this.forget());
    this.sought.valueChanges
      .pipe(
        filter((typed) => typeof typed === 'string'),
        tap(() => this.forget()),
        debounceTime(typingPauseMs),
        switchMap((search) => (search.trim() === '' ? of(undefined) : this.#find(search))),
        takeUntilDestroyed(),
      )
      .subscribe((found) => {
        this.searched.set(found !== undefined);
        this.hits.set((found?.anchors ?? []).filter(({ id }) => id !== this.anchor().id).slice(0, shownHits));
      });
  }

  /** A search that fails says so, and the next one is asked all the same. */
  #find(search: string): Observable<AnchorList | undefined> {
    return this.#api.anchors(this.anchor().knot, { search }).pipe(
      catchError((error: unknown) => {
        this.asking.problem.set(problemOf(error));
        return of(undefined);
      }),
    );
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
  protected forget(): void {
    this.asked.set(undefined);
    this.asking.problem.set(undefined);
  }
  protected leave(): void {
    this.forget();
    this.key.reset();
    this.sought.reset();
    this.chosen.set(new Set());
    this.tying.set('');
    this.merging.set(false);
    this.hits.set([]);
    this.searched.set(false);
  }

  protected askTie(member: string): void {
    this.key.markAsTouched();
    if (this.key.valid) this.ask({ kind: 'tie', member, key: this.key.value });
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
    if (undo) this.#telling.offer(says, 'Undo').subscribe(undo);
    else this.#telling.say(says);
  }
}
