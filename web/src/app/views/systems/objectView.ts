import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { RouterLink, RouterLinkActive } from '@angular/router';
import type { NewFieldType, ObjectSummary, ObjectView } from '@anchor-knot/contracts';
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
          <div class="acts">@if (one.newFieldTypes.length > 0 && session.may('administrator')) { <button mat-button type="button" (click)="adding.set(!adding())">{{ adding() ? 'No new field' : 'Add a field there' }}</button> }@if (session.may('operator')) {<button mat-flat-button type="button" [disabled]="isProfiling()" (click)="profile()">{{ one.profile ? 'Profile again' : 'Profile' }}</button>}</div>
        } @else { <h1>{{ object() }}</h1> }
      </header>
      <nav class="sections" aria-label="Sections">@for (one of sections; track one.path) {<a [routerLink]="['/systems', id(), 'objects', object(), one.path]" routerLinkActive="on" ariaCurrentWhenActive="page">{{ one.name }}</a>}</nav>
      <ak-state [of]="view" />
      @if (view.value(); as one) {
        @if (adding()) {
          <form class="adding typed" (submit)="add(one, name.value, type.value); $event.preventDefault()">
            <label>New field<input #name maxlength="100" spellcheck="false" /></label><label>Type<select #type>@for (each of one.newFieldTypes; track each) {<option>{{ each }}</option>}</select></label>
            <button mat-stroked-button type="submit">Add it in {{ one.system.name }}</button><small>{{ one.environment === 'test copy' ? 'It is a test copy.' : 'It is production: everybody there will see the field.' }}</small>
          </form>
        }
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
    .adding { display: flex; gap: 12px; align-items: flex-end; flex-wrap: wrap; padding: 8px 22px; border-bottom: 1px solid var(--hair); } .scroll { flex: 1; overflow: auto; min-height: 0; } header select { font: inherit; color: inherit; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; min-height: 24px; }
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

  protected readonly adding = signal(false);

  protected add({ system, object }: ObjectView, name: string, type: string): void {
    if (name.trim() === '' || !confirm(`Add the field “${name.trim()}” to ${object.name} in ${system.name} itself? It cannot be taken away from here.`)) return;
    this.#api.addField(this.id(), this.object(), { name, type: type as NewFieldType }).subscribe({
      next: (field) => {
        this.adding.set(false);
        this.#snack.open(`Added as “${field}”. Profile the object again to see it here.`, 'Close');
      },
      error: (error: unknown) => this.#snack.open(`${problemOf(error).says} ${problemOf(error).advice ?? ''}`, 'Close'),
    });
  }

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
