import { ChangeDetectionStrategy, Component, computed, inject, input, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { type Decision, decisionKinds, type MemberSummary } from '@anchor-knot/contracts';
import { SessionService } from '../../api/session';
import { recordLink } from '../../grid/recordLink';
import { Keys } from '../../keys/keys';
import { Value } from '../../values/value';
import { ExactTimePipe } from '../../words/times';
import { MatchRecordsGrid } from '../matches/matchRecordsGrid';
import { StartRun } from '../runs/startRun';
import { CorrectRecord } from './correctRecord';
import { DecisionActs } from './decisionActs';
import { type DecisionOption, optionsOf } from './decisionOptions';
import { HeldGrid } from './heldGrid';
import { SubstituteForm } from './substituteForm';
import { ProblemText } from '../problem';
import { AgoTime } from '../../words/agoTime';

const listWords = {
  waiting: 'waits to be matched in',
  rejected: 'is rejected in',
  untied: 'matches nothing in',
  aside: 'was set aside in',
} as const;

/** Kinds that are put right by correcting the record where it stands. */
const correctable: readonly Decision['kind'][] = ['rejected', 'unreadable'];

/** A decision with everything that is needed to take it: by button, or by the key that stands on it. */
@Component({
  selector: 'ak-decision-panel',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ProblemText,
    MatButtonModule,
    RouterLink,
    CorrectRecord,
    ExactTimePipe,
    HeldGrid,
    MatchRecordsGrid,
    SubstituteForm,
    Value,
    AgoTime,
  ],
  templateUrl: './decisionPanel.html',
  styleUrl: './decisionPanel.scss',
})
export class DecisionPanel {
  readonly decision = input.required<Decision>();
  readonly members = input.required<readonly MemberSummary[]>();
  /** Whether the panel stands on its anchor's own page. */
  readonly onAnchor = input(false);
  /** Whether keys choose here: only one panel at a time listens. */
  readonly listens = input(true);
  readonly decided = output();
  protected readonly session = inject(SessionService);
  protected readonly acts = inject(DecisionActs);
  readonly #runs = inject(StartRun);

  protected readonly isMatch = computed(
    () => this.decision().kind === 'unsure match' || this.decision().kind === 'duplicate',
  );
  protected readonly isCorrectable = computed(() => correctable.includes(this.decision().kind));
  protected readonly isSettledHere = computed(() => decisionKinds[this.decision().kind].isSettledHere);
  protected readonly held = computed(() => {
    const decision = this.decision();
    return decision.kind === 'held' ? decision : undefined;
  });
  protected readonly base = computed(() => this.held()?.detail.base?.value ?? undefined);
  protected readonly recordLink = computed(() => {
    const { member, key } = this.decision();
    return recordLink(
      this.members().find(({ id }) => id === member),
      key,
    );
  });
  /** What the decision is about, where that is a system and what it gave. */
  protected readonly source = computed(() => {
    const decision = this.decision();
    const member = this.members().find(({ id }) => id === decision.member);
    return member && decisionKinds[decision.kind].about === 'source' ? member : undefined;
  });
  /** Of a reference that waits: in which list of the other knot the record stands that it names. */
  protected readonly wantedList = computed(() => {
    const decision = this.decision();
    if (decision.kind !== 'waiting') return undefined;
    const { by, list, knotName } = decision.detail;
    if (list === null || !('member' in by)) return undefined;
    return { query: { member: by.member, list }, says: `${listWords[list]} ${knotName}` };
  });
  protected readonly options = computed((): DecisionOption[] => optionsOf(this.decision(), this.members()));

  constructor() {
    const choose = (key: string): boolean => {
      const option = this.options().find((offered) => offered.key === key);
      if (!option || !this.listens() || this.acts.busy() || !this.session.may('operator')) return false;
      this.choose(option);
      return true;
    };
    inject(Keys).register([
      ...['1', '2', '3', '4', '5', '6', '7', '8', '9'].map((key) => ({
        key,
        says: 'choose what has that number',
        act: () => choose(key),
      })),
      { key: '0', says: 'stay with what was agreed', act: () => choose('0') },
      { key: 'l', says: 'later: it comes last', act: () => choose('l') },
    ]);
  }

  protected choose({ choice, forAll }: DecisionOption): void {
    const { knot, kind } = this.decision();
    if (forAll) return this.acts.tryAlikeAgain(this.decision(), () => this.decided.emit());
    if (kind === 'guard') return this.#runs.start(knot, 'run', { overGuards: true });
    this.acts.decide(this.decision(), choice, () => this.decided.emit());
  }
}
