import { computed, DestroyRef, effect, inject, Injectable, Injector, signal, untracked } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import type {
  Draft,
  KnotDefinition,
  MemberSummary,
  Problem,
  Proposal,
  Reading,
  SystemSummary,
} from '@anchor-knot/contracts';
import {
  accept,
  openProposals,
  pairsOf,
  type Edit,
  type Finding,
  type Trial,
  type TurnedDown,
} from '@anchor-knot/core';
import {
  catchError,
  concatMap,
  debounceTime,
  EMPTY,
  filter,
  first,
  from,
  fromEvent,
  last,
  map,
  of,
  share,
  Subject,
  switchMap,
  takeUntil,
  tap,
  timer,
} from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { SystemsApi } from '../../../api/systemsApi';
import { askAgainMs } from '../../../api/loaded';
import { isAway, problemOf } from '../../../api/problems';
import { LiveEvents } from '../../../api/liveEvents';
import { SessionService } from '../../../api/session';
import { Telling } from '../../../telling/telling';
import { EditHistory } from './editHistory';
import { ReferenceTargets } from './referenceTargets';
import { TrialService } from './trialService';

const saveAfterMs = 350;
const reviewAfterMs = 120;

interface Kept {
  readonly definition: KnotDefinition;
  readonly turnedDown: readonly TurnedDown[];
}

/**
 * The definition of one knot while it is worked on: every edit can be undone, is kept on the server as a draft, is
 * tried on real records, and is reviewed. Nothing is in force until a person says so.
 */
@Injectable()
export class KnotEditor {
  readonly #knotsApi = inject(KnotsApi);
  readonly #systemsApi = inject(SystemsApi);
  readonly #trials = inject(TrialService);
  readonly #session = inject(SessionService);
  readonly #telling = inject(Telling);
  readonly targets = inject(ReferenceTargets);
  readonly #injector = inject(Injector);
  readonly #destroyed = inject(DestroyRef);
  readonly #steps = new EditHistory<Kept>();
  readonly #edits = new Subject<void>();
  #revision = 0;
  #basedOn = 0;
  #knot = '';

  readonly definition = computed(() => this.#steps.now()?.definition);
  readonly draft = signal<Pick<Draft, 'changedBy' | 'changedAt' | 'basedOn'> | undefined>(undefined);
  readonly hasDraft = signal(false);
  readonly saving = signal<'saved' | 'saving' | 'not saved'>('saved');
  /** Somebody else changed the draft, or it could not be kept. */
  readonly problem = signal<Problem | undefined>(undefined);
  readonly mayEdit = computed(() => this.#session.may('editor'));
  readonly canUndo = this.#steps.canUndo;
  readonly canRedo = this.#steps.canRedo;

  /** The systems that are connected here. */
  readonly systems = signal<readonly SystemSummary[]>([]);
  /** The members of the definition, as they are shown. */
  readonly members = computed((): readonly MemberSummary[] =>
    (this.definition()?.members ?? []).map(({ id, system, object }) => {
      const found = this.systems().find((one) => one.id === system);
      return {
        id,
        system,
        systemName: found?.name ?? system,
        object,
        pennant: found?.pennant ?? { pattern: 'border', colour: 'ink', letters: '??' },
        ...(found?.pages[object] ?? { recordPage: null, listPage: null }),
      };
    }),
  );

  readonly reading = signal<Reading | undefined>(undefined);
  readonly readingState = signal<'none' | 'reading' | 'read' | 'failed'>('none');
  readonly readingProblem = signal<Problem | undefined>(undefined);
  readonly sampleAt = signal(0);
  readonly sample = computed(() => this.reading()?.together[this.sampleAt()]);
  /** Whether the last search for a failing sample found one; undefined before any search. */
  readonly failing = signal<boolean | undefined>(undefined);
  readonly trial = signal<Trial | undefined>(undefined);
  readonly findings = signal<readonly Finding[]>([]);
  readonly proposals = computed((): readonly Proposal[] => {
    const [reading, now] = [this.reading(), this.#steps.now()];
    if (!reading || !now) return [];
    return openProposals(reading.proposals, now.definition, now.turnedDown);
  });

  constructor() {
    this.#systemsApi.systems().subscribe({
      next: (systems) => this.systems.set(systems),
      error: (error: unknown) => this.problem.set(problemOf(error)),
    });
    const saves = this.#edits.pipe(
      debounceTime(saveAfterMs),
      concatMap(() => this.#save()),
      share(),
    );
    // Whoever leaves has every edit kept: what is under way ends, and what waits is sent after it, on the revision that
    // it made. Until then a closing page asks.
    this.#destroyed.onDestroy(() => this.#edits.complete());
    fromEvent<BeforeUnloadEvent>(window, 'beforeunload')
      .pipe(
        filter(() => this.saving() !== 'saved'),
        takeUntil(saves.pipe(last(null, null))),
      )
      .subscribe((event) => event.preventDefault());
    saves.subscribe();
    // Somebody else's edit is taken at once where nothing is on its way here; otherwise keeping ours tells of theirs.
    inject(LiveEvents)
      .drafts.pipe(
        filter(
          ({ knot, revision, by }) =>
            knot === this.#knot &&
            this.saving() === 'saved' &&
            (revision === 0 ? by !== this.#session.person()?.name : revision > this.#revision),
        ),
        takeUntilDestroyed(),
      )
      .subscribe(({ by, revision }) => {
        this.#telling.say(
          revision === 0 ? `${by} put this draft in force or gave it up.` : `${by} changed this draft.`,
        );
        this.open(this.#knot);
      });
    const trying = computed(() => ({ definition: this.definition(), records: this.sample()?.records }));
    toObservable(trying)
      .pipe(
        switchMap(({ definition, records }) =>
          definition && records ? this.#trials.try(definition, records) : of(undefined),
        ),
        takeUntilDestroyed(),
      )
      .subscribe((trial) => this.trial.set(trial));
    const reviewing = computed(() => ({ definition: this.definition(), reading: this.reading() }));
    toObservable(reviewing)
      .pipe(
        debounceTime(reviewAfterMs),
        switchMap(({ definition }) => (definition ? this.#trials.review(definition) : of([]))),
        takeUntilDestroyed(),
      )
      .subscribe((findings) => this.findings.set(findings));
    this.targets.load();
    effect(() => {
      const named = this.definition()?.fields.flatMap(({ refersTo }) => refersTo ?? []) ?? [];
      if (this.targets.knots().length > 0) untracked(() => named.forEach((knot) => this.targets.know(knot)));
    });
    effect(() => {
      const reading = this.reading();
      if (reading) untracked(() => this.#trials.know(sourcesOf(reading)));
    });
  }

  /** A shared value as it is shown: a thing of another knot by its name. */
  shown(field: string, value: unknown): unknown {
    const isReference = this.definition()?.fields.find(({ id }) => id === field)?.type === 'reference';
    return isReference && typeof value === 'string' ? (this.targets.things()[value] ?? value) : value;
  }

  /** Opens a knot: its draft, or the version in force where nobody works on it. */
  open(knot: string): void {
    if (this.#knot !== knot) {
      this.reading.set(undefined);
      this.readingState.set('none');
      this.#steps.begin(undefined);
    }
    this.#knot = knot;
    this.#knotsApi.draft(knot).subscribe({
      next: (draft) => this.#take(draft),
      error: (error: unknown) => this.problem.set(problemOf(error)),
    });
  }

  #take(draft: Draft): void {
    this.#revision = draft.revision;
    this.#basedOn = draft.basedOn;
    this.draft.set(draft);
    this.hasDraft.set(draft.revision > 0);
    this.problem.set(undefined);
    this.saving.set('saved');
    this.#steps.begin({ definition: draft.definition, turnedDown: draft.turnedDown });
  }

  /** The field of a member that names an anchor. */
  titlePath(member: string): string | undefined {
    const definition = this.definition();
    return definition?.fields.find(({ id }) => id === definition.titleField)?.mappings[member]?.field;
  }

  get revision(): number {
    return this.#revision;
  }
  get basedOn(): number {
    return this.#basedOn;
  }

  /**
   * Changes the definition, if the person may.
   * @param about what is being typed into: what follows shortly in the same place is undone together with it
   */
  edit(change: Edit, about?: string): void {
    const now = this.#steps.now();
    if (!now) return;
    const definition = change(now.definition);
    if (definition !== now.definition) this.#put({ ...now, definition }, about);
  }

  accept(proposals: readonly Proposal[]): void {
    this.edit(accept(proposals));
  }

  turnDown(proposal: Proposal, member: string): void {
    const now = this.#steps.now();
    if (now) this.#put({ ...now, turnedDown: [...now.turnedDown, ...pairsOf(proposal, member, now.definition)] });
  }

  #put(next: Kept, about?: string): void {
    if (!this.#steps.now() || !this.mayEdit()) return;
    this.#steps.put(next, about);
    this.#changed();
  }

  undo(): void {
    if (this.#steps.undo()) this.#changed();
  }
  redo(): void {
    if (this.#steps.redo()) this.#changed();
  }

  #changed(): void {
    this.saving.set('saving');
    this.hasDraft.set(true);
    this.#edits.next();
  }

  /** Keeps what there is now; edits that came while one was under way are kept by the next one. */
  #save() {
    const now = this.#steps.now();
    if (!now || this.problem()?.code === 'changed meanwhile') return EMPTY;
    const knot = this.#knot;
    return this.#knotsApi
      .saveDraft(knot, {
        definition: now.definition,
        turnedDown: now.turnedDown,
        revision: this.#revision,
        basedOn: this.#basedOn,
      })
      .pipe(
        filter(() => knot === this.#knot),
        tap((revision) => {
          this.#revision = revision;
          this.problem.set(undefined);
          this.draft.set({
            changedBy: this.#session.person()?.name ?? null,
            changedAt: new Date().toISOString(),
            basedOn: this.#basedOn,
          });
          if (this.#steps.now() === now) this.saving.set('saved');
        }),
        catchError((error: unknown) => {
          this.saving.set('not saved');
          this.problem.set(problemOf(error));
          if (isAway(error)) this.#saveWhenBack();
          return EMPTY;
        }),
      );
  }

  /** With the server gone, what was edited is sent again until it is kept. */
  #saveWhenBack(): void {
    timer(askAgainMs)
      .pipe(takeUntilDestroyed(this.#destroyed))
      .subscribe(() => this.saving() === 'not saved' && this.saveAgain());
  }

  /** Tries again to keep what could not be kept. */
  saveAgain(): void {
    this.#changed();
  }

  /** Takes the draft as somebody else has left it; the edits made here since are gone. */
  takeTheirs(): void {
    this.problem.set(undefined);
    this.open(this.#knot);
  }

  /** Keeps the edits made here instead of those of somebody else. */
  keepMine(): void {
    this.#knotsApi.draft(this.#knot).subscribe({
      next: (draft) => {
        this.#revision = draft.revision;
        this.problem.set(undefined);
        this.#changed();
      },
      error: (error: unknown) => this.problem.set(problemOf(error)),
    });
  }

  /** Reads the objects of the members, for proposals and samples: the first records of each, or all. */
  read(whole = false): void {
    if (this.readingState() === 'reading') return;
    const knot = this.#knot;
    this.readingState.set('reading');
    this.readingProblem.set(undefined);
    this.#knotsApi.readKnot(knot, whole).subscribe({
      next: (reading) => {
        if (knot !== this.#knot) return;
        this.reading.set(reading);
        this.readingState.set('read');
        this.sampleAt.set(0);
      },
      error: (error: unknown) => {
        this.readingProblem.set(problemOf(error));
        this.readingState.set('failed');
      },
    });
  }

  /** Reads as soon as the last edit is kept: the server reads the members that it knows of. */
  readWhenSaved(whole = false): void {
    toObservable(this.saving, { injector: this.#injector })
      .pipe(
        first((state) => state === 'saved'),
        takeUntilDestroyed(this.#destroyed),
      )
      .subscribe(() => this.read(whole));
  }

  /** Goes to another sample record. */
  stepSample(by: number): void {
    const count = this.reading()?.together.length ?? 0;
    if (count > 0) this.sampleAt.update((at) => (at + by + count) % count);
  }

  /** Goes to the next sample record on which a translation fails, if there is one. */
  goToFailing(): void {
    const definition = this.definition();
    const together = this.reading()?.together ?? [];
    if (!definition || together.length === 0) return;
    const order = together.map((_, index) => (this.sampleAt() + 1 + index) % together.length);
    from(order)
      .pipe(
        concatMap((at) =>
          this.#trials.try(definition, together[at]?.records ?? {}).pipe(
            last(),
            map((trial) => ({ at, trial })),
          ),
        ),
        first(
          ({ trial }) =>
            Object.values(trial.cells).some((row) =>
              Object.values(row).some(({ means, written }) => means?.ok === false || written?.ok === false),
            ),
          undefined,
        ),
      )
      .subscribe((found) => {
        if (found) this.sampleAt.set(found.at);
        this.failing.set(found !== undefined);
      });
  }
}

function sourcesOf(reading: Reading) {
  return Object.fromEntries(
    reading.members.map(({ id, key, fields, sample }) => [
      id,
      {
        key,
        fields: fields.map(({ path, type, declared, required, readOnly, longest }) => ({
          path,
          type: declared ? type : 'unknown',
          required,
          readOnly,
          ...(longest === null ? {} : { longest }),
        })),
        records: sample,
      },
    ]),
  );
}
