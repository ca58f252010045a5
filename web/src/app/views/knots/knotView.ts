import {
  ChangeDetectionStrategy,
  Component,
  computed,
  effect,
  inject,
  input,
  linkedSignal,
  untracked,
} from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatDialog } from '@angular/material/dialog';
import { MatMenuModule } from '@angular/material/menu';
import type { KnotState, KnotView } from '@anchor-knot/contracts';
import { RouterLink } from '@angular/router';
import { MatTooltip } from '@angular/material/tooltip';
import { map } from 'rxjs';
import { KnotsApi } from '../../api/knotsApi';
import { RunsApi } from '../../api/runsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Telling } from '../../telling/telling';
import { count, plural } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';
import { RunDetail } from '../runs/runDetail';
import { StartRun } from '../runs/startRun';
import { State } from '../state';
import { DraftBar } from './editor/draftBar';
import { KnotEditor } from './editor/knotEditor';
import { Surveys } from './editor/surveys';
import { ReferenceTargets } from './editor/referenceTargets';
import { TrialService } from './editor/trialService';
import { KnotChecks } from './knotChecks';
import { KnotCrosswalks } from './knotCrosswalks';
import { KnotDefinitionJson } from './knotDefinition';
import { KnotFields } from './knotFields';
import { KnotHistory } from './knotHistory';
import { KnotDuplicates } from './identity/knotDuplicates';
import { KnotIdentity } from './identity/knotIdentity';
import { KnotVerdicts } from './identity/knotVerdicts';
import { KnotMembers } from './members/knotMembers';
import { KnotRecords } from './records/knotRecords';
import { KnotRules } from './rules/knotRules';
import { AgoTime } from '../../words/agoTime';
import { DayDialog, type DayQuestion } from '../../fields/dayDialog';
import { KnotTiming } from './timing/knotTiming';
import { type Section, Sections } from '../../layout/sections';

const sections = [
  'Members',
  'Identity',
  'Fields',
  'Rules',
  'Crosswalks',
  'Checks',
  'Timing',
  'Dry run',
  'Definition',
  'History',
] as const;

/** Pages within Identity. */
const ofIdentity: readonly string[] = ['identity', 'duplicates', 'verdicts'];
/** A page within Members. */
const ofMembers: readonly string[] = ['members', 'records'];
const readingSections: readonly string[] = ['members', 'identity', 'fields', 'rules', 'crosswalks', 'checks'];

/** How does this kind of thing stay the same? One place, its sections side by side in the order of the work. */
@Component({
  selector: 'ak-one-knot-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  providers: [KnotEditor, ReferenceTargets, TrialService, Surveys],
  imports: [
    MatButtonModule,
    MatMenuModule,
    RouterLink,
    Sections,
    State,
    RunDetail,
    KnotMembers,
    KnotRecords,
    KnotRules,
    KnotIdentity,
    KnotDuplicates,
    KnotVerdicts,
    KnotFields,
    KnotCrosswalks,
    KnotChecks,
    KnotDefinitionJson,
    DraftBar,
    KnotHistory,
    KnotTiming,
    ExactTimePipe,
    AgoTime,
    MatTooltip,
  ],
  templateUrl: './knotView.html',
  styleUrl: './knotView.scss',
})
export class OneKnotView {
  readonly id = input.required<string>();
  readonly section = input.required<string>();
  /** The shared field that is looked at. */
  readonly field = input<string>();
  readonly #knotsApi = inject(KnotsApi);
  readonly #runsApi = inject(RunsApi);
  readonly #live = inject(LiveEvents);
  readonly #telling = inject(Telling);
  readonly #dialog = inject(MatDialog);
  protected readonly editor = inject(KnotEditor);
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  protected readonly sectionsShown = computed(() =>
    sections.map((name): Section => {
      const within = name === 'Identity' ? ofIdentity : name === 'Members' ? ofMembers : [];
      return { name, link: ['/knots', this.id(), slug(name)], isWithin: within.includes(this.section()) };
    }),
  );
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly knot = load(this.id, (id) => this.#knotsApi.knot(id), this.#live.ends);
  /** The newest dry run, or null when there was none. */
  protected readonly latest = load(this.id, (id) =>
    this.#runsApi.runs({ knot: id }).pipe(map(({ runs }) => runs.find(({ kind }) => kind === 'dry run')?.id ?? null)),
  );
  readonly #started = linkedSignal<string, string | undefined>({ source: this.id, computation: () => undefined });
  protected readonly shownRun = computed(() => this.#started() ?? this.latest.value() ?? undefined);

  constructor() {
    effect(() => {
      const id = this.id();
      untracked(() => this.editor.open(id));
    });
    // What is there is read once it is looked at: sections that need no record never ask for one.
    effect(() => {
      if (this.editor.definition() && readingSections.includes(this.section()) && this.editor.readingState() === 'none')
        untracked(() => this.editor.read());
    });
  }

  protected pauseUntil(knot: KnotView): void {
    this.#dialog
      .open<DayDialog, DayQuestion, Date>(DayDialog, {
        data: { title: `Pause ${knot.name} until the morning of a day`, action: 'Pause it', hour: 6 },
      })
      .afterClosed()
      .subscribe((until) => {
        if (until) this.setState(knot, 'paused', until);
      });
  }
  protected setState({ id, name }: KnotView, state: KnotState, until?: Date): void {
    this.#knotsApi.setState(id, state, until).subscribe({
      next: () => {
        const says = {
          running: `${name} is taken up again.`,
          paused: `${name} is paused: no run starts. Edits made meanwhile are merged when it is taken up again.`,
          ended: `${name} is ended.`,
        };
        this.#telling.say(says[state]);
        this.knot.reload();
      },
      error: (error: unknown) => this.#telling.sayProblem(error),
    });
  }
  /** What stays and what does not is said before. */
  protected end(knot: KnotView): void {
    this.#telling
      .confirm({
        title: `End ${knot.name}?`,
        says:
          `No run starts any more. Its ${plural(knot.anchors, 'anchor')}, their ties and the history are kept and ` +
          'can be looked at. Nothing is changed in any system: fields that carry our keys keep them, and ' +
          'subscriptions stay until they are ended where the system is shown. It can be taken up again.',
        action: 'End it',
      })
      .subscribe(() => this.setState(knot, 'ended'));
  }
  protected dryRun(knot: string): void {
    this.runs.start(knot, 'dry run', {}, (run) => {
      this.#started.set(run);
      this.runs.open(knot);
    });
  }
}

function slug(section: (typeof sections)[number]): string {
  return section.toLowerCase().replace(' ', '-');
}
