import { ChangeDetectionStrategy, Component, computed, DestroyRef, effect, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MAT_DATE_LOCALE, provideNativeDateAdapter } from '@angular/material/core';
import { MatDatepickerModule } from '@angular/material/datepicker';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { TimingView } from '@anchor-knot/contracts';
import { nextSlots, type Slot, type Timing } from '@anchor-knot/core';
import { startWith, type Subscription } from 'rxjs';
import { Asking } from '../../../api/asking';
import { KnotsApi } from '../../../api/knotsApi';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { FormDrafts } from '../../../fields/formDrafts';
import { ZoneField } from '../../../fields/zoneField';
import { Pennant } from '../../../pennant/pennant';
import { tableParts } from '../../../tables/rows';
import { Telling } from '../../../telling/telling';
import { AgoTime } from '../../../words/agoTime';
import { StartRun } from '../../runs/startRun';
import { ProblemText } from '../../problem';
import { State } from '../../state';
import { StartCalls } from './startCalls';
import { OnDaysForm } from './onDaysForm';
import { type TimingForm, timingForm, timingOf } from './timingForm';
import { problemsOfForm, showProblems } from './timingProblems';
import { timingSentence, weekdays } from './timingWords';

const shownSlots = 10;
const ownZone = Intl.DateTimeFormat().resolvedOptions().timeZone;

/** When a knot runs by itself. It is set here and holds at once: it is no part of a version. */
@Component({
  selector: 'ak-knot-timing',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    AgoTime,
    MatButtonModule,
    MatCheckboxModule,
    MatDatepickerModule,
    MatFormFieldModule,
    MatInputModule,
    MatSelectModule,
    OnDaysForm,
    Pennant,
    ProblemText,
    ReactiveFormsModule,
    StartCalls,
    State,
    ZoneField,
  ],
  providers: [provideNativeDateAdapter(), { provide: MAT_DATE_LOCALE, useValue: 'en-GB' }],
  templateUrl: './knotTiming.html',
  styleUrl: './knotTiming.scss',
})
export class KnotTiming {
  readonly knot = input.required<string>();
  readonly #api = inject(KnotsApi);
  readonly #drafts = inject(FormDrafts);
  readonly #telling = inject(Telling);
  readonly #until = inject(DestroyRef);
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  protected readonly weekdays = weekdays;
  protected readonly asking = new Asking();
  protected readonly view = load(this.knot, (knot) => this.#api.timing(knot));
  protected readonly form = signal<TimingForm | undefined>(undefined);
  /** What is set in the form; undefined as long as something in it is wrong. */
  readonly #set = signal<Timing | undefined>(undefined);
  /** The timing that was loaded and the form that is filled with it belong together. */
  #revision = 0;
  #watching: Subscription | undefined;

  protected readonly sentence = computed(() => {
    const [view, set] = [this.view.value(), this.#set()];
    return view && set ? timingSentence(set, view.members) : '';
  });
  protected readonly slots = computed((): readonly Slot[] => {
    const set = this.#set();
    return set ? nextSlots(set, Date.now(), shownSlots) : [];
  });

  constructor() {
    effect(() => {
      const view = this.view.value();
      if (view) this.#fill(view);
    });
  }

  #fill(view: TimingView): void {
    const form = timingForm(
      view.timing,
      view.members.map(({ id }) => id),
    );
    this.#revision = view.revision;
    this.#drafts.keep(this.#draftName, form, this.#until);
    if (!this.session.may('editor')) form.disable();
    this.#watching?.unsubscribe();
    this.#watching = form.valueChanges.pipe(startWith(undefined), takeUntilDestroyed(this.#until)).subscribe(() => {
      const problems = problemsOfForm(form, Date.now());
      if (form.enabled) showProblems(form, problems);
      this.#set.set(problems.length === 0 ? timingOf(form) : undefined);
    });
    this.form.set(form);
  }

  get #draftName(): string {
    return `timing ${this.knot()}`;
  }

  protected save(form: TimingForm): void {
    form.markAllAsTouched();
    const timing = this.#set();
    if (!timing) return;
    this.asking.ask(this.#api.keepTiming(this.knot(), { timing, revision: this.#revision }), (revision) => {
      this.#revision = revision;
      this.#drafts.forget(this.#draftName);
      this.#telling.say('The timing is kept, and holds from now on.');
      this.view.reload();
    });
  }

  /** As it was last kept. */
  protected undo(): void {
    this.#drafts.forget(this.#draftName);
    this.view.reload();
  }

  /** As clocks show it in the reader's zone. */
  protected here(at: number): string {
    return `${clockWords(at, ownZone)} ${zoneWords(at, ownZone)}`;
  }

  /** As clocks show it in the knot's zone, where they show something else. */
  protected elsewhere(at: number): string {
    const zone = this.#set()?.zone ?? ownZone;
    const words = clockWords(at, zone);
    return words === clockWords(at, ownZone) ? '' : `${words} ${zoneWords(at, zone)}`;
  }

  protected subscriptionWords({ tells, isLookedAt, subscription }: TimingView['members'][number]): string {
    if (isLookedAt) return 'asked when a file has come or changed';
    if (!tells) return 'does not tell of changes by itself';
    if (!subscription) return 'would be subscribed to by saving this';
    return subscription.state === 'working' ? 'subscribed' : `the subscription is ${subscription.state}`;
  }
}

function clockWords(at: number, zone: string): string {
  return new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    weekday: 'short',
    day: 'numeric',
    month: 'short',
    hour: '2-digit',
    minute: '2-digit',
  }).format(at);
}

function zoneWords(at: number, zone: string): string {
  const parts = new Intl.DateTimeFormat('en-GB', { timeZone: zone, timeZoneName: 'short' }).formatToParts(at);
  return parts.find(({ type }) => type === 'timeZoneName')?.value ?? zone;
}
