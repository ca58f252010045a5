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
  imports: [
    RouterLink,
    RouterLinkActive,
    MatButtonModule,
    Pennant,
    State,
    ObjectFields,
    ObjectRecords,
    AgoPipe,
    ExactTimePipe,
  ],
  templateUrl: './objectView.html',
  styleUrl: './objectView.scss',
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
  protected readonly isProfiling = computed(() =>
    ['waiting', 'reading'].includes(this.view.value()?.object.profile?.state ?? ''),
  );

  protected readonly adding = signal(false);

  protected add({ system, object }: ObjectView, name: string, type: string): void {
    if (
      name.trim() === '' ||
      !confirm(
        `Add the field “${name.trim()}” to ${object.name} in ${system.name} itself? It cannot be taken away from here.`,
      )
    )
      return;
    this.#api.addField(this.id(), this.object(), { name, type: type as NewFieldType }).subscribe({
      next: (field) => {
        this.adding.set(false);
        this.#snack.open(`Added as “${field}”. Profile the object again to see it here.`, 'Close');
      },
      error: (error: unknown) => this.#snack.open(`${problemOf(error).says} ${problemOf(error).advice ?? ''}`, 'Close'),
    });
  }

  protected profile(): void {
    this.#api.profile(this.id(), this.object()).subscribe({
      next: () => this.#askedAt.set(Date.now()),
      error: (error: unknown) => this.#snack.open(problemOf(error).says, 'Close'),
    });
  }

  protected say(holds: string): void {
    this.#api.sayHolds(this.id(), this.object(), holds as ObjectSummary['holds']).subscribe({
      next: () => this.view.reload(),
      error: (error: unknown) => this.#snack.open(problemOf(error).says, 'Close'),
    });
  }
}
