import {
  afterRenderEffect,
  ChangeDetectionStrategy,
  Component,
  computed,
  ElementRef,
  inject,
  linkedSignal,
  signal,
  viewChild,
} from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { PairExample } from '@anchor-knot/contracts';
import { MatTooltip } from '@angular/material/tooltip';
import {
  comparisonKinds,
  comparisonOf,
  defaultThresholds,
  levelBits,
  nameEvidence,
  setEvidence,
  setThresholds,
  type ComparisonKind,
  type EvidenceField,
  type SharedField,
} from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { TextField } from '../../../fields/textField';
import { bitsWords, chanceWords, count, plural } from '../../../words/sentences';
import { type ComparedRecord, type ComparedRow, PairGrid } from '../../matches/pairGrid';
import { KnotEditor } from '../editor/knotEditor';
import { Surveys } from '../editor/surveys';
import { PairExamples } from './pairExamples';
import { ScoreChart, type Thresholds } from './scoreChart';
import { ProblemText } from '../../problem';
import { tableParts } from '../../../tables/rows';

/** How a value is compared, in a person's words. */
const kindWords: Record<ComparisonKind, string> = {
  exact: 'exactly',
  code: 'as a code',
  'person name': 'as a person’s name',
  'company name': 'as a company’s name',
  phone: 'as a phone',
  email: 'as an email',
  address: 'as a postal address',
  date: 'as a date',
  number: 'as a number',
  text: 'as free text',
};

/** More than this share of records with the same value tells them apart badly. */
const commonShare = 0.5;

/** Weighed evidence for what the key rules leave: what is compared, what was learned, and where the lines are. */
@Component({
  selector: 'ak-evidence-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    ProblemText,
    MatButtonModule,
    ChoiceField,
    TextField,
    ScoreChart,
    PairExamples,
    PairGrid,
    MatTooltip,
  ],
  templateUrl: './evidenceEditor.html',
  styleUrl: './evidenceEditor.scss',
})
export class EvidenceEditor {
  protected readonly editor = inject(KnotEditor);
  protected readonly surveys = inject(Surveys);
  protected readonly kinds = comparisonKinds.map((value): Choice<ComparisonKind> => ({
    value,
    says: kindWords[value],
  }));
  protected readonly bitsWords = bitsWords;
  protected readonly chanceWords = chanceWords;
  protected readonly count = count;
  protected readonly plural = plural;

  protected readonly evidence = computed(() => this.editor.definition()?.evidence);
  protected readonly parts = computed((): readonly EvidenceField[] => this.evidence()?.fields ?? []);
  /** Fields that records hold. */
  protected readonly held = computed((): readonly SharedField[] =>
    (this.editor.definition()?.fields ?? []).filter(({ formula }) => formula === undefined),
  );
  /** Those that two members or more give: others alone can never be compared. */
  protected readonly fields = computed((): readonly SharedField[] =>
    (this.editor.definition()?.fields ?? []).filter(
      ({ formula, mappings }) =>
        formula === undefined && Object.values(mappings).filter(({ direction }) => direction !== 'to').length > 1,
    ),
  );
  protected readonly found = this.surveys.evidence;
  /** Where the lines are while they are moved. */
  protected readonly thresholds = linkedSignal<Thresholds>(() => this.evidence()?.thresholds ?? defaultThresholds);
  protected readonly chosen = signal<PairExample | undefined>(undefined);
  private readonly weighed = viewChild<ElementRef<HTMLElement>>('weighed');
  #hasAsked = false;
  protected readonly sums = computed(() => {
    const { upper, lower } = this.thresholds();
    const sums = { tied: 0, asked: 0, left: 0 };
    for (const { from, pairs, disputed } of this.found()?.bins ?? []) {
      if (from >= upper) {
        sums.tied += pairs - disputed;
        sums.asked += disputed;
      } else if (from >= lower) sums.asked += pairs;
      else sums.left += pairs;
    }
    return sums;
  });

  constructor() {
    // Who has asked for it sees it when it is there.
    afterRenderEffect(() => {
      const shown = this.weighed()?.nativeElement;
      if (!shown || !this.#hasAsked || !this.found()) return;
      this.#hasAsked = false;
      const box = shown.closest('.scroll');
      box?.scrollBy({
        top: Math.min(
          shown.getBoundingClientRect().bottom - box.getBoundingClientRect().bottom,
          shown.getBoundingClientRect().top - box.getBoundingClientRect().top,
        ),
      });
    });
  }

  /** Fields that can be compared; one of several can be left out. */
  protected choicesOf({ fields }: EvidenceField): Choice[] {
    const held = this.held().map(({ id, name }): Choice => ({ value: id, says: name }));
    return fields.length > 1 ? [...held, { value: '', says: 'leave it out' }] : held;
  }
  protected abs(bits: number): string {
    return Math.abs(bits).toFixed(1);
  }
  /** What each level of a part adds, from the same to what differs. */
  protected worth(index: number): { says: string; bits: number }[] | undefined {
    const evidence = this.evidence();
    const part = evidence?.fields[index];
    if (!evidence?.weights || !part) return undefined;
    const bits = levelBits(evidence.weights)[index] ?? [];
    return comparisonOf(part.compare)
      .levels.map((says, level) => ({ says, bits: bits[level] ?? 0 }))
      .toReversed();
  }
  /** What makes a part useless, where that is so. */
  protected trouble(index: number): string | undefined {
    const [found, weights] = [this.found(), this.evidence()?.weights];
    if (!found || !weights) return undefined;
    const filled = found.filled[index] ?? 0;
    if (filled === 0) return 'blank in every record: it says nothing';
    if (filled < found.records / 10) return `filled in ${count(filled)} of ${count(found.records)} records only`;
    const same = weights.fields[index]?.u.at(-1) ?? 0;
    return same > commonShare
      ? `${Math.round(100 * same)} % of any two records agree in it: it tells little`
      : undefined;
  }

  protected learn(): void {
    this.chosen.set(undefined);
    this.#hasAsked = true;
    this.surveys.begin(this.editor.definition()?.id ?? '', true);
  }
  protected keep(thresholds: Thresholds): void {
    this.editor.edit(setThresholds(thresholds));
  }
  protected name(index: number, name: string): void {
    if (name.trim() !== '') this.editor.edit(nameEvidence(index, name.trim()));
  }
  #change(index: number, change: (part: EvidenceField) => EvidenceField): void {
    this.editor.edit(setEvidence(this.parts().map((part, at) => (at === index ? change(part) : part))));
  }
  protected setField(index: number, at: number, field: string): void {
    this.#change(index, (part) => ({
      ...part,
      fields: part.fields.flatMap((one, place) => (place !== at ? [one] : field === '' ? [] : [field])),
    }));
  }
  protected setCompare(index: number, compare: ComparisonKind): void {
    this.#change(index, (part) => ({ ...part, compare }));
  }
  protected addField(index: number): void {
    const free = this.fields().find(({ id }) => !this.parts()[index]?.fields.includes(id));
    if (free) this.#change(index, (part) => ({ ...part, fields: [...part.fields, free.id] }));
  }
  protected drop(index: number): void {
    this.editor.edit(setEvidence(this.parts().filter((_, at) => at !== index)));
  }
  /** The first field that is not weighed yet, compared as its type suggests. */
  protected add(): void {
    const used = new Set(this.parts().flatMap(({ fields }) => fields));
    const free = this.fields().filter(({ id }) => !used.has(id));
    const field =
      order.flatMap((kind) => free.find((one) => suggested(one) === kind) ?? [])[0] ?? free[0] ?? this.fields()[0];
    if (field)
      this.editor.edit(
        setEvidence([...this.parts(), { name: field.name, fields: [field.id], compare: suggested(field) ?? 'text' }]),
      );
  }

  protected records({ a, b }: PairExample): ComparedRecord[] {
    return [a, b];
  }
  protected rows({ texts, score }: PairExample): ComparedRow[] {
    return this.parts().map(({ name }, index): ComparedRow => ({
      id: String(index),
      name,
      values: texts[index] ?? [],
      part: score.parts[index],
    }));
  }
}

/** What tells things apart best comes first. */
const order: readonly ComparisonKind[] = ['company name', 'person name', 'phone', 'address', 'code', 'date', 'email'];

/** How a field is compared, from its type and its name; `undefined` where neither says anything. */
function suggested({ type, name }: SharedField): ComparisonKind | undefined {
  if (type === 'email' || type === 'phone' || type === 'number' || type === 'date') return type;
  if (/company|organi[sz]ation|firm|legal name/i.test(name)) return 'company name';
  if (/street|address/i.test(name)) return 'address';
  if (/name|contact/i.test(name)) return 'person name';
  return /post ?code|zip|number/i.test(name) ? 'code' : undefined;
}
