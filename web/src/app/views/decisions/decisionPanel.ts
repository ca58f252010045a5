import {
  ChangeDetectionStrategy,
  Component,
  computed,
  inject,
  input,
  output,
  type Signal,
  signal,
} from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { RouterLink } from '@angular/router';
import type { Choice, Decision, GiverView, MemberSummary, Problem } from '@anchor-knot/contracts';
import { fromEvent } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { SessionService } from '../../api/session';
import { recordLink } from '../../grid/recordLink';
import { isTyping } from '../../shell/shortcuts';
import { Value } from '../../values/value';
import { valueText } from '../../values/valueText';
import { bitsWords } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';
import { MatchRecordsGrid } from '../matches/matchRecordsGrid';
import { StartRun } from '../runs/startRun';
import { UndoDecision } from './undoDecision';

/** One way to decide: a key to press, what it says, and what is sent. */
interface Option {
  readonly key: string;
  readonly who: string;
  readonly value: unknown;
  readonly shows: boolean;
  readonly note: string;
  readonly choice: Choice;
}

/** A decision with its choices, taken by button or digit. */
@Component({
  selector: 'ak-decision-panel',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, Value, ExactTimePipe, MatchRecordsGrid],
  templateUrl: './decisionPanel.html',
  styleUrl: './decisionPanel.scss',
})
export class DecisionPanel {
  readonly decision = input.required<Decision>();
  readonly members = input.required<readonly MemberSummary[]>();
  /** Whether the panel stands on its anchor's own page. */
  readonly onAnchor = input(false);
  /** Whether digits choose here: only one panel at a time listens. */
  readonly listens = input(true);
  /**
   * In a list: the id of the panel that listens. Asked when a key comes, so that a digit right after `j` reaches the
   * panel that `j` went to.
   */
  readonly opened = input<Signal<string>>();
  readonly decided = output();
  protected readonly session = inject(SessionService);
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  readonly #runs = inject(StartRun);
  readonly #undo = inject(UndoDecision);
  protected readonly busy = signal(false);
  protected readonly problem = signal<Problem | undefined>(undefined);

  protected readonly base = computed(() => {
    const decision = this.decision();
    return decision.kind === 'held' ? (decision.detail.base?.value ?? undefined) : undefined;
  });
  protected readonly isMatch = computed(
    () => this.decision().kind === 'unsure match' || this.decision().kind === 'duplicate',
  );
  /** Whether it is the one that is looked at. */
  protected readonly isOpened = computed(
    () => this.listens() && (this.opened()?.() ?? this.decision().id) === this.decision().id,
  );
  protected readonly recordLink = computed(() => {
    const { member, key } = this.decision();
    return recordLink(
      this.members().find(({ id }) => id === member),
      key,
    );
  });
  protected readonly options = computed((): Option[] => optionsOf(this.decision(), this.members()));

  constructor() {
    fromEvent<KeyboardEvent>(document, 'keydown')
      .pipe(takeUntilDestroyed())
      .subscribe((event) => {
        if (!this.isOpened() || isTyping(event) || this.busy() || !this.session.may('operator')) return;
        const option = this.options().find(({ key }) => key === event.key);
        if (option) this.choose(option);
      });
  }

  protected choose(option: Option): void {
    const { knot, id, kind } = this.decision();
    if (kind === 'guard') return this.#runs.start(knot, 'run', { overGuards: true });
    this.busy.set(true);
    this.problem.set(undefined);
    this.#api.decide(knot, id, option.choice).subscribe({
      next: () => {
        this.busy.set(false);
        window.dispatchEvent(new Event('anchor-knot-decided'));
        this.decided.emit();
        if (this.isMatch()) this.#offerUndo(option.choice.choose);
        else
          this.#snack
            .open('Decided. The next run writes it.', 'Run now')
            .onAction()
            .subscribe(() => this.#runs.start(knot, 'run'));
      },
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error));
        if (this.problem()?.code !== 'not a choice') this.decided.emit();
      },
    });
  }

  /** What was said of a match is undone where nothing has acted on it yet. */
  #offerUndo(choose: Choice['choose']): void {
    const { knot, id } = this.decision();
    this.#undo.last.set({ knot, decision: id });
    this.#snack
      .open(choose === 'later' ? 'Put off: it comes last.' : 'Decided. The next run acts on it.', 'Undo', {
        duration: 12_000,
      })
      .onAction()
      .subscribe(() => this.#undo.undo());
  }
}

function optionsOf(decision: Decision, members: readonly MemberSummary[]): Option[] {
  const { fingerprint } = decision;
  const plain = { value: undefined, shows: false, note: '' };
  const numbered = (options: Omit<Option, 'key'>[]): Option[] =>
    options.map((option, index) => ({ ...option, key: String(index + 1) }));
  switch (decision.kind) {
    case 'held': {
      const { base, candidates } = decision.detail;
      const name = (giver: GiverView): string => {
        if (giver.kind === 'person') return giver.name;
        return giver.kind === 'member' ? (members.find(({ id }) => id === giver.member)?.systemName ?? '') : '';
      };
      const known = base !== null && candidates.some(({ value }) => valueText(value) === valueText(base.value));
      return [
        ...numbered(
          candidates.map(({ value, givers }) => ({
            who: givers.map(name).join(' and '),
            value,
            shows: true,
            note: '',
            choice: { choose: 'value', value, fingerprint },
          })),
        ),
        ...(base && !known
          ? [
              {
                key: '0',
                who: 'stay with what was agreed',
                value: base.value,
                shows: true,
                note: '',
                choice: { choose: 'value', value: base.value, fingerprint },
              } satisfies Option,
            ]
          : []),
      ];
    }
    case 'duplicate': {
      const { keys, tiedKey } = decision.detail;
      const all = [...(tiedKey === null ? [] : [tiedKey]), ...keys];
      return [
        ...numbered([
          ...all.map((key): Omit<Option, 'key'> => ({
            ...plain,
            who: `keep record ${key}`,
            note: key === tiedKey ? 'tied now' : '',
            choice: { choose: 'record', key, fingerprint },
          })),
          { ...plain, who: 'they are different things', choice: { choose: 'different', fingerprint } },
        ]),
        { ...plain, key: 'l', who: 'later', choice: { choose: 'later', fingerprint } },
      ];
    }
    case 'unsure match': {
      const { candidates } = decision.detail;
      const only = candidates.length === 1;
      return [
        ...numbered([
          ...candidates.map(({ with: other, score }, index): Omit<Option, 'key'> => ({
            ...plain,
            who: only ? 'the same' : other ? `the same as ${other.key}` : `the same as candidate ${index + 1}`,
            note: score && !only ? bitsWords(score.bits) : '',
            choice: { choose: 'same', candidate: index, fingerprint },
          })),
          { ...plain, who: only ? 'not the same' : 'none of them', choice: { choose: 'different', fingerprint } },
        ]),
        { ...plain, key: 'l', who: 'later', choice: { choose: 'later', fingerprint } },
      ];
    }
    case 'deleted elsewhere': {
      const { others } = decision.detail;
      const where = (may: 'archive' | 'delete'): string =>
        others
          .filter((other) => other[may])
          .map((other) => members.find(({ id }) => id === other.member)?.systemName ?? other.member)
          .join(' and ');
      const offered = (['archive', 'delete'] as const).filter((may) => where(may) !== '');
      return numbered([
        { ...plain, who: 'keep it where it is', choice: { choose: 'keep others', fingerprint } },
        ...offered.map((may): Omit<Option, 'key'> => ({
          ...plain,
          who: `${may} it in ${where(may)}`,
          choice: { choose: `${may} others`, fingerprint },
        })),
      ]);
    }
    case 'refused':
    case 'unclear write':
      return numbered([
        {
          ...plain,
          who: decision.kind === 'refused' ? 'try again with the next run' : 'it is not there: create it again',
          choice: { choose: 'try again', fingerprint },
        },
      ]);
    case 'guard':
      return numbered([
        { ...plain, who: 'run over the guards this once', choice: { choose: 'try again', fingerprint } },
      ]);
    default:
      return [];
  }
}
