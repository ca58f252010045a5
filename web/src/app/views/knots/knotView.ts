import { ChangeDetectionStrategy, Component, computed, effect, inject, input, linkedSignal, untracked } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink, RouterLinkActive } from '@angular/router';
import { map } from 'rxjs';
import { Api } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { count, plural } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { RunDetail } from '../runs/runDetail';
import { StartRun } from '../runs/startRun';
import { State } from '../state';
import { DraftBar } from './editor/draftBar';
import { KnotEditor } from './editor/knotEditor';
import { Surveys } from './editor/surveys';
import { TrialService } from './editor/trialService';
import { KnotChecks } from './knotChecks';
import { KnotCrosswalks } from './knotCrosswalks';
import { KnotDefinitionJson } from './knotDefinition';
import { KnotFields } from './knotFields';
import { KnotHistory } from './knotHistory';
import { KnotDuplicates } from './identity/knotDuplicates';
import { KnotIdentity } from './identity/knotIdentity';
import { KnotVerdicts } from './identity/knotVerdicts';
import { KnotMembers } from './knotMembers';
import { KnotRecords } from './records/knotRecords';

const sections = ['Members', 'Identity', 'Fields', 'Crosswalks', 'Checks', 'Dry run', 'Definition', 'History'] as const;

/** Pages within Identity. */
const ofIdentity: readonly string[] = ['identity', 'duplicates', 'verdicts'];
/** A page within Members. */
const ofMembers: readonly string[] = ['members', 'records'];
const readingSections: readonly string[] = ['members', 'identity', 'fields', 'crosswalks', 'checks'];

/** How does this kind of thing stay the same? One place, its sections side by side in the order of the work. */
@Component({
  selector: 'ak-one-knot-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  providers: [KnotEditor, TrialService, Surveys],
  imports: [
    MatButtonModule,
    RouterLink,
    RouterLinkActive,
    State,
    RunDetail,
    KnotMembers,
    KnotRecords,
    KnotIdentity,
    KnotDuplicates,
    KnotVerdicts,
    KnotFields,
    KnotCrosswalks,
    KnotChecks,
    KnotDefinitionJson,
    DraftBar,
    KnotHistory,
    AgoPipe,
    ExactTimePipe,
  ],
  template: `
    <div class="page">
      <header>
        <h1>{{ editor.definition()?.name ?? knot.value()?.name ?? 'Knot' }}</h1>
        @if (knot.value(); as one) {
          <small>@if (one.version === 0) {not in force yet} @else {version {{ one.version }} in force · {{ count(one.agree) }} of {{ plural(one.anchors, 'anchor') }} agree · @if (one.lastRun; as run) {last run <a [routerLink]="['/runs', run.id]" [title]="run.startedAt | exactTime">{{ run.startedAt | ago }}</a>} @else {never ran}@if (one.decisions > 0) { · <a routerLink="/decisions">{{ plural(one.decisions, 'decision') }}</a>}}</small>
          <div class="acts">
            @if (session.may('operator') && one.version > 0) {
              <button mat-stroked-button type="button" (click)="dryRun(one.id)">Dry run</button>
              <button mat-flat-button type="button" (click)="runs.start(one.id, 'run')">Run now</button>
            }
          </div>
        }
      </header>
      <nav class="sections" aria-label="Sections">@for (section of sections; track section) {<a [routerLink]="['/knots', id(), slug(section)]" routerLinkActive="on" ariaCurrentWhenActive="page" [class.within]="(section === 'Identity' && ofIdentity.includes(this.section())) || (section === 'Members' && ofMembers.includes(this.section()))">{{ section }}</a>}</nav>
      <ak-state [of]="knot" />
      @if (knot.value(); as one) {
        <ak-draft-bar [knot]="one" (changed)="knot.reload()" />
        <div class="scroll">
          @switch (section()) {
            @case ('members') { <ak-knot-members [knot]="one" /> }
            @case ('records') { <ak-knot-records [knot]="one" /> }
            @case ('identity') { <ak-knot-identity /> }
            @case ('duplicates') { <ak-knot-duplicates [knot]="id()" /> }
            @case ('verdicts') { <ak-knot-verdicts [knot]="id()" /> }
            @case ('fields') { <ak-knot-fields [knot]="one" /> }
            @case ('crosswalks') { <ak-knot-crosswalks /> }
            @case ('checks') { <ak-knot-checks /> }
            @case ('dry-run') {
              @if (shownRun(); as run) { <ak-run-detail [run]="run" /> }
              @else if (latest.value() === null) { <p class="empty">A dry run reads every system, matches, merges and plans as a run does, and writes nothing. Its counts, and every single change as before and after, will be shown here.@if (session.may('operator') && one.version > 0) {<br /><br /><button mat-flat-button type="button" (click)="dryRun(one.id)">Start a dry run</button>}</p> }
            }
            @case ('definition') { @if (editor.definition()) { <ak-knot-definition /> } }
            @case ('history') { <ak-knot-history [knot]="one" /> }
            @default { <p class="empty">This knot has no section of that name.</p> }
          }
        </div>
      }
    </div>
  `,
  styles: `
    .page > header { border: 0; padding-bottom: 4px; } nav a.within { color: var(--ink); font-weight: 650; border-color: var(--petrol); }
    .scroll { flex: 1; overflow: auto; min-height: 0; }
  `,
})
export class OneKnotView {
  readonly id = input.required<string>();
  readonly section = input.required<string>();
  readonly #api = inject(Api);
  readonly #live = inject(LiveEvents);
  protected readonly editor = inject(KnotEditor);
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  protected readonly sections = sections;
  protected readonly ofIdentity = ofIdentity;
  protected readonly ofMembers = ofMembers;
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly knot = load(this.id, (id) => this.#api.knot(id), this.#live.ends);
  /** The newest dry run, or null when there was none. */
  protected readonly latest = load(this.id, (id) => this.#api.runs({ knot: id }).pipe(map(({ runs }) => runs.find(({ kind }) => kind === 'dry run')?.id ?? null)));
  readonly #started = linkedSignal<string, string | undefined>({ source: this.id, computation: () => undefined });
  protected readonly shownRun = computed(() => this.#started() ?? this.latest.value() ?? undefined);

  constructor() {
    effect(() => {
      const id = this.id();
      untracked(() => this.editor.open(id));
    });
    // What is there is read once it is looked at: sections that need no record never ask for one.
    effect(() => {
      if (this.editor.definition() && readingSections.includes(this.section()) && this.editor.readingState() === 'none') untracked(() => this.editor.read());
    });
  }

  protected slug(section: (typeof sections)[number]): string {
    return section.toLowerCase().replace(' ', '-');
  }
  protected dryRun(knot: string): void {
    this.runs.start(knot, 'dry run', {}, (run) => {
      this.#started.set(run);
      this.runs.open(knot);
    });
  }
}
