import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal } from '@angular/core';
import { MatPaginatorModule } from '@angular/material/paginator';
import { RouterLink } from '@angular/router';
import { type AnchorView, thingOf } from '@anchor-knot/contracts';
import { AnchorsApi } from '../../api/anchorsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { tableParts } from '../../tables/rows';
import { AgreedValue } from '../../values/agreedValue';
import { Value } from '../../values/value';
import { valueText } from '../../values/valueText';
import { plural } from '../../words/sentences';
import { DecisionPanel } from '../decisions/decisionPanel';
import { State } from '../state';

type Row = AnchorView;
type Deviation = { readonly member: Row['members'][number]; readonly raw: unknown; readonly waits: boolean };

/** The rows of a thing, as a grid within its page: what is agreed of each, and what a system says otherwise. */
@Component({
  selector: 'ak-anchor-rows',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, MatPaginatorModule, RouterLink, AgreedValue, DecisionPanel, Pennant, State, Value],
  templateUrl: './anchorRows.html',
  styleUrl: './anchorRows.scss',
})
export class AnchorRows {
  readonly anchor = input.required<string>();
  /** What the thing is called whose rows they are. */
  readonly called = input('');
  /** Whether keys choose in the first decision. */
  readonly listens = input(true);
  readonly of = input.required<AnchorView['referring'][number]>();
  readonly #api = inject(AnchorsApi);
  protected readonly pageSize = 50;
  /** Another thing is shown from its first row on. */
  protected readonly page = linkedSignal({ source: () => [this.anchor(), this.of().knot], computation: () => 0 });
  readonly #asked = computed(() => JSON.stringify([this.anchor(), this.of().knot, this.page()]));
  protected readonly view = load(
    this.#asked,
    () => this.#api.rows(this.anchor(), this.of().knot, this.page() * this.pageSize),
    inject(LiveEvents).ends,
  );
  protected readonly rows = computed(() => this.view.value()?.rows ?? []);
  /** All but what leads back here or says its name in each row, and what is worked out from the others. */
  protected readonly fields = computed(() => {
    const [first] = this.rows();
    return (first?.fields ?? []).filter(
      ({ id, cells }) =>
        Object.values(cells).some(({ state }) => state !== 'no mapping') &&
        !this.rows().every((row) => this.#isItself(this.agreedOf(row, id)?.value)),
    );
  });
  protected readonly columns = computed(() => ['row', ...this.fields().map(({ id }) => id)]);
  protected readonly decisions = computed(() =>
    this.rows().flatMap((row) => row.decisions.map((decision) => ({ row, decision }))),
  );
  protected readonly plural = plural;

  protected agreedOf(row: Row, field: string) {
    return row.fields.find(({ id }) => id === field)?.agreed;
  }

  #isItself(value: unknown): boolean {
    return thingOf(value)?.$thing === this.anchor() || (value !== undefined && valueText(value) === this.called());
  }

  /** What systems say that is not what is agreed. */
  protected deviations(row: Row, field: string): readonly Deviation[] {
    const cells = row.fields.find(({ id }) => id === field)?.cells ?? {};
    return row.members.flatMap((member) => {
      const cell = cells[member.id];
      if (!cell || member.gone || ['agrees', 'no mapping', 'not sent'].includes(cell.state)) return [];
      return [{ member, raw: cell.raw, waits: cell.state === 'ahead' }];
    });
  }

  /** Where it is not. */
  protected missing(row: Row): readonly Row['members'][number][] {
    return row.members.filter(({ key, gone }) => key === null || gone);
  }
}
