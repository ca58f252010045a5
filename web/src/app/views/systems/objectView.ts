import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal, untracked } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { switchMap } from 'rxjs';
import { changeWords, type NewField, type ObjectSummary, type ObjectView } from '@anchor-knot/contracts';
import { SystemsApi } from '../../api/systemsApi';
import { Telling } from '../../telling/telling';
import { load, type Loaded } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { NewFieldForm } from '../../fields/newFieldForm';
import { Pennant } from '../../pennant/pennant';
import { count, plural } from '../../words/sentences';
import { State } from '../state';
import { ObjectFields } from './objectFields';
import { ObjectRecords } from './objectRecords';
import { whileProfiling } from './profiling';
import { AgoTime } from '../../words/agoTime';
import { type Section, Sections } from '../../layout/sections';
import { tableParts } from '../../tables/rows';

/** As many as tell what an object holds, and are read in a moment. */
const firstRecords = 500;
const sections = [
  { path: 'fields', name: 'Fields' },
  { path: 'records', name: 'Records' },
  { path: 'history', name: 'History' },
] as const;

/** What is in this object: its fields and what they hold, sample records, and how its fields changed over time. */
@Component({
  selector: 'ak-one-object-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    RouterLink,
    Sections,
    MatButtonModule,
    ChoiceField,
    NewFieldForm,
    Pennant,
    State,
    ObjectFields,
    ObjectRecords,
    AgoTime,
  ],
  templateUrl: './objectView.html',
  styleUrl: './objectView.scss',
})
export class OneObjectView {
  readonly id = input.required<string>();
  readonly object = input.required<string>();
  readonly section = input('fields');
  protected readonly session = inject(SessionService);
  readonly #api = inject(SystemsApi);
  readonly #telling = inject(Telling);
  protected readonly sections = computed(() =>
    sections.map(({ name, path }): Section => ({
      name,
      link: ['/systems', this.id(), 'objects', this.object(), path],
    })),
  );
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
  protected readonly isProfiling = computed(() =>
    ['waiting', 'reading'].includes(this.view.value()?.object.profile?.state ?? ''),
  );

  constructor() {
    // A first look does its own work, once.
    const looking = effect(() => {
      const view = this.view.value();
      if (!view || !this.session.may('operator')) return;
      if (view.object.profile === null) untracked(() => this.profile(firstRecords));
      looking.destroy();
    });
  }

  protected readonly adding = signal(false);
  protected readonly contents: readonly Choice<ObjectSummary['holds']>[] = [
    { value: 'things that change', says: 'things that change' },
    { value: 'events', says: 'events, only ever added' },
  ];

  protected add({ system, object }: ObjectView, newField: NewField): void {
    this.#telling
      .confirm({
        title: `Add the field “${newField.name}” to ${object.name}?`,
        says: `It is created in ${system.name} itself, and cannot be taken away from here.`,
        action: 'Add it',
      })
      .pipe(switchMap(() => this.#api.addField(this.id(), this.object(), newField)))
      .subscribe({
        next: (field) => {
          this.adding.set(false);
          this.#telling.say(`Added as “${field}”. Profile the object again to see it here.`);
        },
        error: (error: unknown) => this.#telling.sayProblem(error),
      });
  }

  protected profile(first?: number): void {
    this.#api.profile(this.id(), this.object(), first).subscribe({
      next: () => this.#askedAt.set(Date.now()),
      error: (error: unknown) => this.#telling.sayProblem(error),
    });
  }

  protected say(holds: ObjectSummary['holds']): void {
    this.#api.sayHolds(this.id(), this.object(), holds).subscribe({
      next: () => this.view.reload(),
      error: (error: unknown) => this.#telling.sayProblem(error),
    });
  }
}
