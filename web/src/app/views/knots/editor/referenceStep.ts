import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { anchorId, referenceWays, type ReferenceStep } from '@anchor-knot/core';
import { catchError, debounceTime, filter, map, of, switchMap } from 'rxjs';
import { AnchorsApi } from '../../../api/anchorsApi';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { KnotEditor } from './knotEditor';

const pauseMs = 200;
const notFounds: readonly Choice<'wait' | 'blank' | 'instead'>[] = [
  { value: 'wait', says: 'waits until it is there' },
  { value: 'blank', says: 'is blank' },
  { value: 'instead', says: 'is this one instead' },
];

/** How a system refers to a thing of another knot, and what a value means that nothing there is known by. */
@Component({
  selector: 'ak-reference-step',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ChoiceField, MatAutocompleteModule, MatFormFieldModule, MatInputModule, ReactiveFormsModule],
  templateUrl: './referenceStep.html',
  styleUrl: './referenceStep.scss',
})
export class ReferenceStepEditor {
  readonly step = input.required<ReferenceStep>();
  /** The knot whose things it refers to. */
  readonly knot = input.required<string>();
  readonly mayEdit = input(true);
  readonly changed = output<ReferenceStep>();
  protected readonly notFounds = notFounds;
  readonly #editor = inject(KnotEditor);
  readonly #anchors = inject(AnchorsApi);
  /** One was asked for that was not chosen yet. */
  protected readonly choosing = signal(false);
  protected readonly search = new FormControl('', { nonNullable: true });

  readonly #target = computed(() => this.#editor.targets.definitions()[this.knot()]);
  protected readonly ways = computed((): Choice[] => {
    const target = this.#target();
    const known = target ? referenceWays(target).map((by) => ({ by, says: this.#wayWords(by) })) : [];
    const now = JSON.stringify(this.step().by);
    const choices = known.map(({ by, says }) => ({ value: JSON.stringify(by), says }));
    return choices.some(({ value }) => value === now)
      ? choices
      : [...choices, { value: now, says: this.#wayWords(this.step().by) }];
  });
  protected readonly way = computed(() => JSON.stringify(this.step().by));
  protected readonly notFound = computed((): 'wait' | 'blank' | 'instead' => {
    const { notFound } = this.step();
    if (this.choosing() || typeof notFound === 'object') return 'instead';
    return notFound ?? 'wait';
  });
  /** What the chosen one is called. */
  protected readonly instead = computed(() => {
    const { notFound } = this.step();
    if (typeof notFound !== 'object') return '';
    return this.#editor.targets.things()[notFound.instead]?.title ?? 'chosen';
  });
  protected readonly found = toSignal(
    this.search.valueChanges.pipe(
      debounceTime(pauseMs),
      map((text) => text.trim()),
      filter((text) => text.length > 1),
      switchMap((text) => this.#anchors.anchors(this.knot(), { search: text }).pipe(catchError(() => of(undefined)))),
      map((page) => page?.anchors ?? []),
    ),
    { initialValue: [] },
  );

  #wayWords(by: ReferenceStep['by']): string {
    const target = this.#target();
    if ('field' in by) return `${target?.fields.find(({ id }) => id === by.field)?.name ?? by.field}: its value`;
    const member = target?.members.find(({ id }) => id === by.member);
    const system = this.#editor.systems().find(({ id }) => id === member?.system)?.name ?? by.member;
    return `key of the record in ${system}`;
  }

  protected refer(way: string): void {
    this.changed.emit({ ...this.step(), by: JSON.parse(way) as ReferenceStep['by'] });
  }
  protected otherwise(how: 'wait' | 'blank' | 'instead'): void {
    this.choosing.set(how === 'instead');
    const { notFound: _, ...step } = this.step();
    if (how !== 'instead') this.changed.emit(how === 'blank' ? { ...step, notFound: 'blank' } : step);
  }
  protected choose(id: string): void {
    const chosen = this.found().find((anchor) => anchor.id === id);
    if (!chosen) return;
    this.#editor.targets.name({ $thing: id, knot: this.knot(), title: chosen.title });
    this.choosing.set(false);
    this.search.setValue('', { emitEvent: false });
    this.changed.emit({ ...this.step(), notFound: { instead: anchorId(id) } });
  }
}
