import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { RouterLink, RouterLinkActive } from '@angular/router';
import type { ObjectSummary, ObjectView } from '@anchor-knot/contracts';
import { Api, problemOf } from '../../api/api';
import { load, type Loaded } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { changeWords } from '../../words/schemaChanges';
import { count, plural } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { State } from '../state';
import { ObjectFields } from './objectFields';
import { ObjectRecords } from './objectRecords';
import { whileProfiling } from './profiling';

const sections = [
  { path: 'fields', name: 'Fields' },
  { path: 'records', name: 'Records' },
  { path: 'history', name: 'History' },
] as const;

/** What is in this object: its fields and what they hold, sample records, and how its fields changed over time. */
@Component({
  selector: 'ak-one-object-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RouterLinkActive, MatButtonModule, Pennant, State, ObjectFields, ObjectRecords, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header>
        @if (view.value(); as one) {
          <h1>{{ one.object.name }}</h1>
          <small>in <a [routerLink]="['/systems', id()]"><ak-pennant [settings]="one.system.pennant" [name]="one.system.name" [shown]="true" /></a> · we may {{ one.object.may.join(', ') }} · holds
            <select aria-label="Holds" [value]="one.object.holds" [disabled]="!session.may('editor')" #holds (change)="say(holds.value)"><option value="things that change">things that change</option><option value="events">events, only ever added</option></select>@if (one.object.holdsIsGuessed) { (guessed)}
          </small>
          <div class="acts">@if (session.may('operator')) {<button mat-flat-button type="button" [disabled]="isProfiling()" (click)="profile()">{{ one.profile ? 'Profile again' : 'Profile' }}</button>}</div>
        } @else { <h1>{{ object() }}</h1> }
      </header>
      <nav class="sections" aria-label="Sections">@for (one of sections; track one.path) {<a [routerLink]="['/systems', id(), 'objects', object(), one.path]" routerLinkActive="on" ariaCurrentWhenActive="page">{{ one.name }}</a>}</nav>
      <ak-state [of]="view" />
      @if (view.value(); as one) {
        @if (one.object.profile; as state) {
          @if (state.state === 'waiting' || state.state === 'reading') { <p class="banner waits" role="status">{{ state.state === 'waiting' ? 'Waits for a worker.' : 'Reading: ' + plural(state.records, 'record') + ' so far.' }}</p> }
          @if (state.state === 'failed') { <div class="banner" role="alert"><strong>It could not be read.</strong><small>{{ state.words }}</small></div> }
        }
        <div class="scroll">
          @switch (section()) {
            @case ('fields') { <ak-object-fields [view]="one" /> }
            @case ('records') { <ak-object-records [system]="id()" [object]="object()" /> }
            @case ('history') {
              @if (one.history.length === 0) { <p class="empty">When it has been profiled, its fields are kept here; and whenever they are found different, what changed.</p> } @else {
                <table class="plain">
                  <thead><tr><th scope="col">Seen</th><th scope="col" class="number">Fields</th><th scope="col">What changed</th></tr></thead>
                  <tbody>@for (version of one.history; track version.version) {<tr><td class="whole"><span [title]="version.seenAt | exactTime">{{ version.seenAt | ago }}</span></td><td class="number">{{ version.fields }}</td><td>@for (change of version.changes; track $index) {<div>{{ changeWords(change) }}</div>} @empty {<span class="quiet">first profile</span>}</td></tr>}</tbody>
                </table>
              }
            }
            @default { <p class="empty">There is no section of that name.</p> }
          }
        </div>
      }
    </div>
  `,
  styles: `
    .page > header { border: 0; padding-bottom: 4px; } .whole { white-space: nowrap; width: 1%; }
    .scroll { flex: 1; overflow: auto; min-height: 0; } select { font: inherit; color: inherit; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; min-height: 24px; }
  `,
})
export class OneObjectView {
  readonly id = input.required<string>();
  readonly object = input.required<string>();
  readonly section = input('fields');
  protected readonly session = inject(SessionService);
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  protected readonly sections = sections;
  protected readonly changeWords = changeWords;
  protected readonly count = count;
  protected readonly plural = plural;
  readonly #askedAt = signal(0);
  readonly #question = computed(() => JSON.stringify([this.id(), this.object()]));
  protected readonly view: Loaded<ObjectView> = load(
    this.#question,
    () => this.#api.object(this.id(), this.object()),
    whileProfiling(this.#askedAt, () => this.isProfiling()),
  );
  protected readonly isProfiling = computed(() => ['waiting', 'reading'].includes(this.view.value()?.object.profile?.state ?? ''));

  protected profile(): void {
    this.#api
      .profile(this.id(), this.object())
      .subscribe({ next: () => this.#askedAt.set(Date.now()), error: (error: unknown) => this.#snack.open(problemOf(error).says, 'Close') });
  }

  protected say(holds: string): void {
    this.#api
      .sayHolds(this.id(), this.object(), holds as ObjectSummary['holds'])
      .subscribe({ next: () => this.view.reload(), error: (error: unknown) => this.#snack.open(problemOf(error).says, 'Close') });
  }
}
