import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { type Exchange, type ExchangeList, type MemberSummary } from '@anchor-knot/contracts';
import { Asking } from '../../api/asking';
import { load } from '../../api/loaded';
import { RunsApi } from '../../api/runsApi';
import { Pennant } from '../../pennant/pennant';
import { tableParts } from '../../tables/rows';
import { count, plural } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';
import { ProblemText } from '../problem';
import { State } from '../state';
import { span } from './runSteps';

/** So many runs are looked into at once: enough to see what is usual, and soon over. */
const runsAtOnce = 3;

interface CallRow {
  readonly id: string;
  readonly call: Exchange;
  readonly isTexts: boolean;
}

/** The calls of systems that a run made, one by one, where somebody wanted them kept. */
@Component({
  selector: 'ak-run-calls',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ExactTimePipe, MatButtonModule, Pennant, ProblemText, State],
  templateUrl: './runCalls.html',
  styleUrl: './runCalls.scss',
})
export class RunCalls {
  readonly run = input.required<string>();
  readonly knot = input.required<string>();
  readonly members = input.required<readonly MemberSummary[]>();
  readonly #api = inject(RunsApi);
  protected readonly asking = new Asking();
  protected readonly view = load(this.run, (run) => this.#api.exchanges(run, {}));
  readonly #more = linkedSignal<ExchangeList | undefined, readonly ExchangeList[]>({
    source: () => this.view.value(),
    computation: (first) => (first ? [first] : []),
  });
  protected readonly calls = computed(() => this.#more().flatMap(({ exchanges }) => exchanges));
  protected readonly next = computed(() => this.#more().at(-1)?.next ?? null);
  /** The call whose texts are shown. */
  protected readonly open = signal<string | undefined>(undefined);
  protected readonly columns = ['at', 'system', 'call', 'answer', 'took'];
  protected readonly runsAtOnce = runsAtOnce;
  protected readonly plural = plural;
  protected readonly count = count;
  protected readonly span = span;
  /** The texts of the one that is open stand below it, as a row of their own. */
  protected readonly rows = computed((): readonly CallRow[] =>
    this.calls().flatMap((call) => [
      { id: call.id, call, isTexts: false },
      ...(this.open() === call.id ? [{ id: `${call.id} texts`, call, isTexts: true }] : []),
    ]),
  );
  protected readonly isTexts = (_: number, row: CallRow): boolean => row.isTexts;

  protected memberOf(id: string): MemberSummary | undefined {
    return this.members().find((member) => member.id === id);
  }

  protected toggle(id: string): void {
    this.open.update((open) => (open === id ? undefined : id));
  }

  protected more(after: string): void {
    this.asking.ask(this.#api.exchanges(this.run(), { after }), (page) =>
      this.#more.update((pages) => [...pages, page]),
    );
  }

  protected keep(runs: number): void {
    this.asking.ask(this.#api.keepDetail(this.knot(), runs), () => this.view.reload());
  }
}
