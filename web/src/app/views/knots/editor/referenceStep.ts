import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { anchorId, referenceWays, type ReferenceStep } from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { ThingField } from '../../../fields/thingField';
import { KnotEditor } from './knotEditor';

const notFounds: readonly Choice<'wait' | 'blank' | 'instead'>[] = [
  { value: 'wait', says: 'waits until it is there' },
  { value: 'blank', says: 'is blank' },
  { value: 'instead', says: 'is this one instead' },
];

/** How a system refers to a thing of another knot, and what a value means that nothing there is known by. */
@Component({
  selector: 'ak-reference-step',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ChoiceField, ThingField],
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
  /** One was asked for that was not chosen yet. */
  protected readonly choosing = signal(false);

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
  protected choose({ id, title }: { readonly id: string; readonly title: string }): void {
    this.#editor.targets.name({ $thing: id, knot: this.knot(), title });
    this.choosing.set(false);
    this.changed.emit({ ...this.step(), notFound: { instead: anchorId(id) } });
  }
}
