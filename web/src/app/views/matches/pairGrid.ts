import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { MemberSummary, PairScore, RuleSays } from '@anchor-knot/contracts';
import { type GridMember, type GridRow, RecordGrid } from '../../grid/recordGrid';
import { recordLink } from '../../grid/recordLink';
import { Value } from '../../values/value';
import { bitsWords, chanceWords } from '../../words/sentences';
import { ScoreShare } from './scoreShare';

/** A record in a comparison: the column it stands in. */
export interface ComparedRecord {
  readonly member: string;
  readonly key: string;
  readonly title: string;
}

/**
 * Something that is compared: its name and what each record has, in their order; and how it counts, where it is
 * weighed.
 */
export interface ComparedRow {
  readonly id: string;
  readonly name: string;
  readonly values: readonly unknown[];
  /** Said below the name. */
  readonly hint?: string;
  readonly part?: PairScore['parts'][number] | undefined;
}

/** Records side by side in the grid, with what each field adds to the score of the first two. */
@Component({
  selector: 'ak-pair-grid',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RecordGrid, Value, ScoreShare],
  templateUrl: './pairGrid.html',
  styles: `:host { display: block; } p { margin: 4px 0 6px; }`,
})
export class PairGrid {
  readonly records = input.required<readonly ComparedRecord[]>();
  readonly rows = input.required<readonly ComparedRow[]>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly score = input<PairScore | null>(null);
  /** What the key rules say of the first two. */
  readonly rules = input<readonly RuleSays[]>([]);
  protected readonly ruleWords = computed(() =>
    this.rules()
      .map(
        ({ name, says }) =>
          `${name} ${says === 'missing' ? 'is missing in one' : says === 'the same' ? 'is the same' : says}`,
      )
      .join(', '),
  );
  protected readonly bitsWords = bitsWords;
  protected readonly chanceWords = chanceWords;

  protected readonly gridRows = computed((): GridRow[] =>
    this.rows().map(({ id, name, hint }) => ({ id, name, ...(hint === undefined ? {} : { hint }) })),
  );
  protected readonly columns = computed((): GridMember[] =>
    this.records().flatMap(({ member, key, title }, place): GridMember[] => {
      const known = this.members().find(({ id }) => id === member);
      if (!known) return [];
      return [
        {
          ...known,
          id: String(place),
          hint: title === key ? key : `${key} · ${title}`,
          link: recordLink(known, key),
        },
      ];
    }),
  );

  protected rowOf(id: string): ComparedRow | undefined {
    return this.rows().find((row) => row.id === id);
  }
  protected placeOf(column: string): number {
    return Number(column);
  }
  /** The value of the first record, where there are two to compare. */
  protected against(values: readonly unknown[], place: number): unknown {
    return place === 0 || isBlank(values[place]) || isBlank(values[0]) ? undefined : values[0];
  }
}

const isBlank = (value: unknown): boolean => value === null || value === undefined || value === '';
