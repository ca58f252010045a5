import { computed, DestroyRef, inject, Injectable, Injector, signal } from '@angular/core';
import { takeUntilDestroyed, toObservable } from '@angular/core/rxjs-interop';
import type { IdentitySurvey, KnotDefinition, MemberSurvey, Problem } from '@anchor-knot/contracts';
import { setWeights, type Finding } from '@anchor-knot/core';
import { filter, first, type Subscription, switchMap } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { problemOf } from '../../../api/problems';
import { count } from '../../../words/sentences';
import { KnotEditor } from './knotEditor';

const toldReasons = 2;

export interface Survey {
  /** What was tried. */
  readonly definition: KnotDefinition;
  readonly at: string;
  readonly members: Readonly<Record<string, MemberSurvey>>;
  readonly identity: IdentitySurvey;
  /** Members that could not be read, and why. */
  readonly troubles: Readonly<Record<string, string>>;
}

/** The definition tried on all records of its members, by the server: asked for, followed, and stopped here. */
@Injectable()
export class Surveys {
  readonly #api = inject(KnotsApi);
  readonly #editor = inject(KnotEditor);
  readonly #injector = inject(Injector);
  readonly #destroyed = inject(DestroyRef);
  #asked: Subscription | undefined;

  /** The last one that came to its end. */
  readonly last = signal<Survey | undefined>(undefined);
  /** How far the one under way is. */
  readonly progress = signal<
    | { readonly member: string; readonly records: number }
    | { readonly compared: number; readonly of: number }
    | undefined
  >(undefined);
  readonly problem = signal<Problem | undefined>(undefined);
  /** Whether the last one tried what is there now. */
  readonly isCurrent = computed(() => this.last()?.definition === this.#editor.definition());

  /** What it found, at the places of the definition; in the order of members and fields. */
  readonly findings = computed((): readonly Finding[] => {
    const survey = this.last();
    return survey
      ? findingsOf(survey, (id) => this.#editor.members().find((member) => member.id === id)?.systemName ?? id)
      : [];
  });

  /**
   * What evidence made of all records, as long as records are read and compared as they were then; thresholds may be
   * moved.
   */
  readonly evidence = computed(() => {
    const [survey, definition] = [this.last(), this.#editor.definition()];
    return survey && definition && sameMatching(survey.definition, definition) ? survey.identity.evidence : undefined;
  });

  /**
   * Begins as soon as the last edit is kept: the server tries what it knows of.
   * @param anew whether weights are learned from the data again; where there are none they are anyway. They are taken
   * over into the draft
   */
  begin(knot: string, anew = false): void {
    this.stop();
    this.problem.set(undefined);
    const definition = this.#editor.definition();
    if (!definition) return;
    const learn = anew || (definition.evidence !== undefined && definition.evidence.weights === undefined);
    const members: Record<string, MemberSurvey> = {};
    const troubles: Record<string, string> = {};
    this.progress.set({ member: definition.members[0]?.id ?? '', records: 0 });
    this.#asked = toObservable(this.#editor.saving, { injector: this.#injector })
      .pipe(
        filter((state) => state !== 'saving'),
        first(),
        switchMap(() => this.#api.survey(knot, learn)),
        takeUntilDestroyed(this.#destroyed),
      )
      .subscribe({
        next: (line) => {
          if (line.kind === 'progress') this.progress.set(line);
          else if (line.kind === 'comparing') this.progress.set({ compared: line.done, of: line.total });
          else if (line.kind === 'member') members[line.member] = line.survey;
          else if (line.kind === 'trouble') troubles[line.member] = line.says;
          else
            this.#finish(
              { definition, at: new Date().toISOString(), members, identity: line.identity, troubles },
              learn,
            );
        },
        error: (error: unknown) => {
          this.problem.set(problemOf(error));
          this.progress.set(undefined);
        },
        complete: () => this.progress.set(undefined),
      });
  }

  #finish(survey: Survey, learn: boolean): void {
    const weights = survey.identity.evidence?.weights;
    const now = this.#editor.definition();
    // Weights that were learned of what is compared no longer are worth nothing.
    if (
      learn &&
      weights &&
      now &&
      JSON.stringify(now.evidence?.fields) === JSON.stringify(survey.definition.evidence?.fields)
    ) {
      this.#editor.edit(setWeights(weights));
      this.last.set({ ...survey, definition: this.#editor.definition() ?? survey.definition });
    } else this.last.set(survey);
  }

  stop(): void {
    this.#asked?.unsubscribe();
    this.progress.set(undefined);
  }
}

/** Whether two definitions compare the same records in the same way; the thresholds may differ. */
function sameMatching(a: KnotDefinition, b: KnotDefinition): boolean {
  if (a === b) return true;
  const of = ({ members, fields, keyRules, evidence, crosswalks }: KnotDefinition): string =>
    JSON.stringify([
      members,
      fields.map(({ id, type, mappings, formula }) => [id, type, mappings, formula]),
      keyRules,
      evidence?.fields,
      evidence?.weights,
      crosswalks,
    ]);
  return of(a) === of(b);
}

function findingsOf({ definition, members, troubles }: Survey, systemName: (member: string) => string): Finding[] {
  return definition.members.flatMap(({ id }): Finding[] => {
    const member = members[id];
    if (!member) return troubles[id] === undefined ? [] : [{ kind: 'warns', at: `members.${id}`, says: troubles[id] }];
    const found: Finding[] = [];
    const warn = (at: string, says: string): void => void found.push({ kind: 'warns', at, says });
    if (member.takePart === 0) warn(`members.${id}`, `none of ${count(member.records)} records takes part`);
    if (member.filterFails > 0)
      warn(
        `members.${id}`,
        `the filter fails on ${count(member.filterFails)} of ${count(member.records)} records: ` +
          (member.filterReason ?? ''),
      );
    for (const { id: field } of definition.fields) {
      const cell = member.cells[field];
      if (cell && cell.unreadable > 0)
        warn(
          `fields.${field}.mappings.${id}`,
          `${count(cell.unreadable)} of ${count(cell.filled)} values cannot be read: ` +
            cell.reasons.slice(0, toldReasons).join('; '),
        );
    }
    for (const check of definition.checks) {
      const { fails = 0 } = member.checks[check.id] ?? {};
      if (fails > 0)
        warn(`checks.${check.id}`, `${count(fails)} of ${count(member.takePart)} records of ${systemName(id)} fail it`);
    }
    return found;
  });
}
