import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatMenuModule } from '@angular/material/menu';
import {
  changeOutcome,
  dropOutcome,
  type Member,
  type OutcomeFields,
  type OutcomeState,
  setMember,
  tellOutcome,
} from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { TextField } from '../../../fields/textField';
import { Pennant } from '../../../pennant/pennant';
import { KnotEditor } from '../editor/knotEditor';

/** A member that is told of another one, and in which fields. */
interface Telling {
  readonly member: Member;
  readonly outcome: OutcomeFields;
}

type PlainPart = Exclude<keyof OutcomeFields, 'of' | 'state'>;

const parts: readonly { readonly part: PlainPart; readonly says: string }[] = [
  { part: 'words', says: 'Why it failed or waits' },
  { part: 'time', says: 'When it was told' },
  { part: 'key', says: 'Key of the record there' },
  { part: 'link', says: 'Link to the record there' },
];
const states: readonly { readonly state: keyof Omit<OutcomeState, 'field'>; readonly says: string; hint: string }[] = [
  { state: 'done', says: 'when it is done', hint: '' },
  { state: 'failed', says: 'when it failed', hint: '' },
  { state: 'pending', says: 'while it waits', hint: 'nothing is told' },
  { state: 'ready', says: 'to have it taken again', hint: 'nobody can' },
];
const notWhole = (text: string): string | undefined =>
  /^[1-9]\d{0,5}$/.test(text.trim()) ? undefined : 'Use a whole number of minutes.';

/** What became of records elsewhere, told in fields of theirs; and systems that acknowledge later. */
@Component({
  selector: 'ak-outcomes',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatMenuModule, ChoiceField, Pennant, TextField],
  templateUrl: './outcomes.html',
  styleUrl: './outcomes.scss',
})
export class Outcomes {
  protected readonly editor = inject(KnotEditor);
  protected readonly parts = parts;
  protected readonly states = states;
  protected readonly notWhole = notWhole;
  readonly #members = computed(() => this.editor.definition()?.members ?? []);
  protected readonly tellings = computed((): readonly Telling[] =>
    this.#members().flatMap((member) => (member.outcomes ?? []).map((outcome) => ({ member, outcome }))),
  );
  protected readonly acknowledging = computed(() => this.#members().filter(({ acknowledges }) => acknowledges));
  /** What could be told besides. */
  protected readonly more = computed(() =>
    this.#members().flatMap(({ id, outcomes, may }) =>
      this.#members().flatMap(({ id: of }) =>
        id === of || !may.update || outcomes?.some((outcome) => outcome.of === of) ? [] : [{ id, of }],
      ),
    ),
  );
  protected readonly silent = computed(() => this.#members().filter(({ acknowledges }) => !acknowledges));

  protected nameOf(id: string): string {
    return this.summaryOf(id)?.systemName ?? id;
  }
  protected summaryOf(id: string) {
    return this.editor.members().find((member) => member.id === id);
  }
  /** Fields that are known there, and the one that is chosen; none, where a field may be left out. */
  protected places(id: string, chosen: string | undefined, none: string | undefined): Choice[] {
    const known = this.editor.reading()?.members.find((member) => member.id === id)?.fields ?? [];
    const paths = new Set([...known.map(({ path }) => path), ...(chosen ? [chosen] : [])]);
    const choices = [...paths].map((path) => ({ value: path, says: path }));
    return none === undefined ? choices : [{ value: '', says: none }, ...choices];
  }
  protected tell(id: string, of: string): void {
    this.editor.edit(tellOutcome(id, of));
    if (this.editor.readingState() === 'none') this.editor.readWhenSaved();
  }
  protected drop({ member, outcome }: Telling): void {
    this.editor.edit(dropOutcome(member.id, outcome.of));
  }
  protected change({ member, outcome }: Telling, change: Partial<OutcomeFields>): void {
    this.editor.edit(changeOutcome(member.id, outcome.of, change));
  }
  protected setPart(telling: Telling, part: PlainPart, path: string): void {
    this.change(telling, { [part]: path === '' ? undefined : path });
  }
  protected setStateField(telling: Telling, field: string): void {
    const { done = 'done', failed = 'failed', ...rest } = telling.outcome.state ?? {};
    this.change(telling, { state: field === '' ? undefined : { ...rest, done, failed, field } });
  }
  protected setState(telling: Telling, state: keyof Omit<OutcomeState, 'field'>, text: string): void {
    const { state: known } = telling.outcome;
    if (!known) return;
    const isOptional = state === 'pending' || state === 'ready';
    this.change(telling, { state: { ...known, [state]: isOptional && text.trim() === '' ? undefined : text.trim() } });
  }
  protected await(id: string): void {
    this.editor.edit(setMember(id, { acknowledges: { field: '', lateAfter: 60 } }));
    if (this.editor.readingState() === 'none') this.editor.readWhenSaved();
  }
  protected setAcknowledged(member: Member, change: Partial<NonNullable<Member['acknowledges']>>): void {
    const { field = '', lateAfter = 60 } = member.acknowledges ?? {};
    this.editor.edit(setMember(member.id, { acknowledges: { field, lateAfter, ...change } }));
  }
  protected stopAwaiting(id: string): void {
    this.editor.edit(setMember(id, { acknowledges: undefined }));
  }
}
