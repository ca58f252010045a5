import { ChangeDetectionStrategy, Component, computed, effect, inject, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatTooltip } from '@angular/material/tooltip';
import { Router, RouterLink } from '@angular/router';
import { type Cell, thingOf } from '@anchor-knot/contracts';
import { AnchorsApi } from '../../api/anchorsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { type CellTone, type GridMember, type GridRow, RecordGrid } from '../../grid/recordGrid';
import { recordLink } from '../../grid/recordLink';
import { AgreedValue } from '../../values/agreedValue';
import { Value } from '../../values/value';
import { valueText } from '../../values/valueText';
import { causeWords, count, plural } from '../../words/sentences';
import { AnchorRows } from './anchorRows';
import { DecisionPanel } from '../decisions/decisionPanel';
import { reasonsOf } from './reasons';
import { HandTies } from './handTies';
import { StartRun } from '../runs/startRun';
import { WithSide } from '../../layout/withSide';
import { State } from '../state';
import { AgoTime } from '../../words/agoTime';
import { WholeText } from '../../values/wholeText';

/** What do all systems say about this one thing, and why? */
@Component({
  selector: 'ak-one-anchor-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    WithSide,
    RouterLink,
    MatButtonModule,
    MatTooltip,
    RecordGrid,
    AgreedValue,
    Value,
    AnchorRows,
    DecisionPanel,
    HandTies,
    State,
    AgoTime,
    WholeText,
  ],
  templateUrl: './anchorView.html',
  styleUrl: './anchorView.scss',
})
export class OneAnchorView {
  readonly id = input.required<string>();
  readonly #api = inject(AnchorsApi);
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  protected readonly view = load(this.id, (id) => this.#api.anchor(id), inject(LiveEvents).ends);
  protected readonly plural = plural;
  protected readonly count = count;

  constructor() {
    const router = inject(Router);
    // One that was merged into another is shown under the address of that one.
    effect(() => {
      const shown = this.view.value()?.id;
      if (shown !== undefined && shown !== this.id()) void router.navigate(['/anchors', shown], { replaceUrl: true });
    });
  }

  protected readonly rows = computed(
    (): GridRow[] => this.view.value()?.fields.map(({ id, name }) => ({ id, name })) ?? [],
  );
  /** Those that are tied and there, by their names. */
  protected readonly records = computed(
    () =>
      this.view.value()?.members.flatMap(({ id, key, gone }) => (key === null || gone ? [] : [{ member: id, key }])) ??
      [],
  );
  protected readonly tied = computed(
    () => this.view.value()?.members.filter(({ key, gone }) => key !== null && !gone).length ?? 0,
  );
  protected readonly members = computed((): GridMember[] =>
    (this.view.value()?.members ?? []).map((member) => ({
      ...member,
      hint:
        member.key === null
          ? 'no record'
          : member.gone
            ? `${member.key} · gone`
            : member.rejected.length > 0
              ? `${member.key} · rejected`
              : member.unacknowledgedSince !== null
                ? `${member.key} · not acknowledged`
                : member.key,
      link: recordLink(member, member.key),
    })),
  );
  /** What refers to it: its rows stand in its page, of others some are named. */
  protected readonly rowsOf = computed(() => this.view.value()?.referring.filter(({ isRows }) => isRows) ?? []);
  protected readonly othersOf = computed(() => this.view.value()?.referring.filter(({ isRows }) => !isRows) ?? []);
  readonly #held = computed(
    () =>
      new Set(
        this.view
          .value()
          ?.decisions.filter(({ kind }) => kind === 'held')
          .map(({ field }) => field),
      ),
  );
  protected readonly tone = computed(() => {
    this.view.value();
    return (row: GridRow, member: GridMember): CellTone => {
      const { state } = this.cellOf(row.id, member.id);
      return state === 'unreadable' || state === 'rejected'
        ? 'wrong'
        : state === 'ahead' || (state === 'differs' && this.#held().has(row.id))
          ? 'waits'
          : 'plain';
    };
  });
  protected readonly tieing = computed(() => {
    this.view.value();
    return (row: GridRow, member: GridMember) => this.cellOf(row.id, member.id).direction;
  });
  /** How its thing stands elsewhere, as each record was told last. */
  protected readonly tellings = computed(() => {
    const members = this.view.value()?.members ?? [];
    return members.flatMap(({ id, systemName, gone, told }) =>
      (gone ? [] : told).map(({ of, state, words, at, refused }) => {
        const cause = { kind: 'outcome', member: of, state, ...(words === null ? {} : { words }) } as const;
        return { id: `${id} ${of}`, system: systemName, words: causeWords(cause, members), at, refused };
      }),
    );
  });
  protected readonly reasons = computed(() => {
    const view = this.view.value();
    return view ? reasonsOf(view) : [];
  });

  protected fieldOf(id: string) {
    return this.view.value()?.fields.find((field) => field.id === id);
  }
  protected cellOf(field: string, member: string): Cell {
    return (
      this.fieldOf(field)?.cells[member] ?? {
        state: 'no mapping',
        raw: null,
        meaning: null,
        reason: null,
        direction: null,
        path: null,
      }
    );
  }
  protected isHeld(field: string): boolean {
    return this.#held().has(field);
  }
  /** Differences are marked only where the forms can be compared: the system holds the value as it is shared. */
  protected against(field: string, cell: Cell): unknown {
    const agreed = this.fieldOf(field)?.agreed?.value;
    return agreed !== undefined && agreed !== null && valueText(cell.raw) === valueText(cell.meaning)
      ? agreed
      : undefined;
  }
  protected note(cell: Cell): string {
    // A key says nothing to a person: what it means stands below it.
    const thing = thingOf(cell.meaning);
    if (thing && cell.state === 'agrees') return thing.title;
    switch (cell.state) {
      case 'unreadable':
        return cell.reason ?? 'cannot be read';
      case 'rejected':
        return '';
      case 'ahead':
        return valueText(cell.raw) === valueText(cell.meaning) ? 'held' : `held: ${valueText(cell.meaning)}`;
      case 'differs':
        return cell.direction === 'from'
          ? 'differs; this system only gives'
          : cell.meaning === null
            ? 'to be filled'
            : 'to be written';
      default:
        return '';
    }
  }
}
