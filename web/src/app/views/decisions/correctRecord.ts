import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { type Decision, type MemberSummary, rawFromText, type RecordToCorrect } from '@anchor-knot/contracts';
import { Asking } from '../../api/asking';
import { DecisionsApi } from '../../api/decisionsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { Fold } from '../../fields/fold';
import { TextField } from '../../fields/textField';
import { Telling } from '../../telling/telling';
import { Value } from '../../values/value';
import { valueText } from '../../values/valueText';
import { State } from '../state';
import { ProblemText } from '../problem';

type RecordField = RecordToCorrect['fields'][number];

/** The record that a decision is about, as it stands in its system now; what is wrong with it is corrected here. */
@Component({
  selector: 'ak-correct-record',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, MatButtonModule, Fold, State, TextField, Value],
  templateUrl: './correctRecord.html',
  styleUrl: './correctRecord.scss',
})
export class CorrectRecord {
  readonly decision = input.required<Decision>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly corrected = output();
  readonly #api = inject(DecisionsApi);
  readonly #telling = inject(Telling);
  readonly #live = inject(LiveEvents);
  protected readonly asking = new Asking();
  protected readonly record = load(this.decision, ({ knot, id }) => this.#api.recordToCorrect(knot, id));
  protected readonly systemName = computed(
    () => this.members().find(({ id }) => id === this.decision().member)?.systemName ?? 'its system',
  );
  /** What was typed, by field, where it differs from what stands there. */
  protected readonly typed = linkedSignal<string, Readonly<Record<string, string>>>({
    source: () => this.decision().id,
    computation: () => ({}),
  });
  protected readonly count = computed(() => Object.keys(this.typed()).length);
  protected readonly text = valueText;

  /** What is wrong stands open, the rest of the record is folded. */
  protected readonly wrong = computed(() => this.#fields((field) => this.#isWrong(field)));
  protected readonly others = computed(() => this.#fields((field) => !this.#isWrong(field)));

  #fields(wanted: (field: RecordField) => boolean): RecordField[] {
    return (this.record.value()?.fields ?? []).filter(wanted);
  }
  #isWrong({ id, reason, name }: RecordField): boolean {
    const says = (this.record.value()?.fails ?? []).join(' ').toLowerCase();
    return reason !== null || this.decision().field === id || says.includes(name.toLowerCase());
  }

  protected type({ id, raw }: RecordField, text: string): void {
    const { [id]: _, ...rest } = this.typed();
    this.typed.set(text === valueText(raw) ? rest : { ...rest, [id]: text });
  }

  protected send({ version, fields }: RecordToCorrect): void {
    const { knot, id, key } = this.decision();
    const values = Object.fromEntries(
      Object.entries(this.typed()).map(([field, text]) => [
        field,
        rawFromText(text, fields.find((one) => one.id === field)?.raw ?? null),
      ]),
    );
    this.asking.ask(this.#api.correct(knot, id, { version, values }), () => {
      this.typed.set({});
      this.#live.decided.next();
      this.#telling.say(`Record ${key ?? ''} is corrected in ${this.systemName()}. The next run reads it.`);
      this.corrected.emit();
    });
  }
}
