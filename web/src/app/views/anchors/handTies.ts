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
  template: `
    <h2>Ties</h2>
    @if (asking.problem(); as problem) { <p class="small wrong" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
    <ul>
      @for (member of anchor().members; track member.id) {
        <li>
          @if (member.key !== null && !member.gone) {
            <label class="tie"><input type="checkbox" [attr.aria-label]="'Choose the record of ' + member.systemName" [disabled]="tied().length < 2" [checked]="chosen().has(member.id)" (change)="choose(member.id, $any($event.target).checked)" /><ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" /><span class="key value">{{ member.key }}</span></label>
          } @else if (tying() === member.id) {
            <ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" />
            <form (submit)="$event.preventDefault(); ask({ kind: 'tie', member: member.id, key: key.value })">
              <label>Key of the record<input maxlength="500" #key (input)="forget()" /></label>
              @if (isAsked('tie')) {} @else {<p class="acts"><button mat-stroked-button type="submit" [disabled]="asking.busy()">See what would follow</button><button mat-button type="button" (click)="leave()">Leave it</button></p>}
            </form>
          } @else {
            <ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" />
            <small>{{ member.gone ? 'gone' : 'no record' }}</small> <button type="button" class="link" [attr.aria-label]="'Tie a record of ' + member.systemName" (click)="beginTying(member.id)">tie one…</button>
          }
        </li>
      }
    </ul>
    @if (chosen().size > 0 && !asked()) { <p class="acts"><button mat-stroked-button type="button" [disabled]="asking.busy() || chosen().size === tied().length" (click)="ask({ kind: 'split', members: [...chosen()] })">{{ chosen().size === 1 ? 'Untie it…' : 'Make them a thing of their own…' }}</button></p> }
    @if (merging()) {
      <label>Merge with<input type="search" class="words" aria-label="Search another anchor" placeholder="name or key" (input)="search($any($event.target).value)" /></label>
      <ul class="hits">@for (hit of hits(); track hit.id) {<li><button type="button" class="link" (click)="ask({ kind: 'merge', with: hit.id })">{{ hit.title }}</button> <small class="value">{{ keysOf(hit) }}</small></li>} @empty {@if (searched()) {<li class="quiet">no other anchor of that name or key</li>}}</ul>
      @if (!asked()) { <p class="acts"><button mat-button type="button" (click)="leave()">Leave it</button></p> }
    } @else if (!asked() && chosen().size === 0 && tying() === '') { <p><button type="button" class="link" (click)="merging.set(true)">merge with another anchor…</button></p> }
    @if (asked(); as request) {
      <div class="forecast" role="group" aria-label="What the next run would do">
        @for (line of lines(); track $index) { <p class="small">{{ line }}</p> }
        <p class="acts"><button mat-stroked-button type="button" [disabled]="asking.busy()" (click)="act(request)">{{ request.kind === 'tie' ? 'Tie it' : request.kind === 'merge' ? 'Merge them' : 'Untie' }}</button><button mat-button type="button" (click)="leave()">Leave it</button></p>
      </div>
    }
  `,
  styles: `
    li { font-size: 13.5px; } .tie { display: flex; gap: 6px; align-items: center; } .key { margin-left: 4px; } .acts { display: flex; gap: 8px; margin: 4px 0; } small { display: block; } li > small { display: inline; margin: 0 8px; } label { display: block; font-size: 12.5px; color: var(--ink-2); } label.tie { font-size: 13.5px; color: var(--ink); } input:not([type='checkbox']) { width: 100%; box-sizing: border-box; }
    .forecast { border-left: 3px solid var(--brass); padding: 2px 0 2px 10px; } .forecast p { margin: 0 0 5px; } .hits li { padding: 4px 0; }
  `,
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
        switchMap((search) => (search.trim() === '' ? of(undefined) : this.#api.anchors(this.anchor().knot, { search }))),
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
        this.#tie([{ member: request.member, key: request.key }], `Record ${request.key.trim()} is tied. The next run merges it.`);
        break;
      case 'split': {
        const parted = request.members.map((member) => ({ member, key: keyIn(member) }));
        this.asking.ask(this.#api.regroup(id, request), () =>
          this.#done(
            `${parted.length === 1 ? `Record ${parted[0]?.key ?? ''} is` : `${parted.length} records are`} untied. The next run takes ${parted.length === 1 ? 'it' : 'them'} as a thing of ${parted.length === 1 ? 'its' : 'their'} own.`,
            () => this.#tie(parted, 'Tied again.'),
          ),
        );
        break;
      }
      case 'merge': {
        const before = new Set(this.tied().map((member: Member) => member.id));
        const came = (this.#forecast()?.anchors[0]?.records ?? []).map(({ member }) => member).filter((member) => !before.has(member));
        this.asking.ask(this.#api.regroup(id, request), () =>
          this.#done('They are one anchor. The next run merges what they hold.', () =>
            this.asking.ask(this.#api.regroup(id, { kind: 'split', members: came }), () => this.#done('They are apart again; the next run makes two of them.')),
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
