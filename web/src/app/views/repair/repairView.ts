import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Router, RouterLink } from '@angular/router';
import { type FailureGroup, mostInFile, type TakenIn } from '@anchor-knot/contracts';
import { EMPTY, expand, from, merge, reduce, switchMap, throttleTime } from 'rxjs';
import { Asking } from '../../api/asking';
import { DecisionsApi } from '../../api/decisionsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { KnotsApi } from '../../api/knotsApi';
import { RepairApi } from '../../api/repairApi';
import { SessionService } from '../../api/session';
import { type Choice, ChoiceField } from '../../fields/choiceField';
import { FileButton } from '../../fields/fileButton';
import { Pennant } from '../../pennant/pennant';
import { tableParts } from '../../tables/rows';
import { Downloads } from '../../telling/downloads';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { count, kindWords, plural } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { ProblemText } from '../problem';
import { State } from '../state';

/** What became of a file that was taken in. */
interface Taken {
  readonly group: FailureGroup;
  readonly outcome: TakenIn;
}

/** What failed over all runs, by why it did, and what repairs all of a kind at once? */
@Component({
  selector: 'ak-repair-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    AgoTime,
    ChoiceField,
    FileButton,
    ListKeys,
    MatButtonModule,
    Pennant,
    ProblemText,
    RouterLink,
    State,
  ],
  templateUrl: './repairView.html',
  styleUrl: './repairView.scss',
})
export class RepairView {
  /** From the address. */
  readonly knot = input<string>();
  readonly #api = inject(RepairApi);
  readonly #decisions = inject(DecisionsApi);
  readonly #knots = inject(KnotsApi);
  readonly #router = inject(Router);
  readonly #telling = inject(Telling);
  readonly #downloads = inject(Downloads);
  readonly #live = inject(LiveEvents);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly taken = signal<Taken | undefined>(undefined);
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly kindWords = kindWords;
  protected readonly mostInFile = mostInFile;
  protected readonly list = load(
    computed((): Record<string, string> => {
      const knot = this.knot();
      return knot ? { knot } : {};
    }),
    (question) => this.#api.groups(question),
    merge(this.#live.ends, this.#live.decided).pipe(throttleTime(1000, undefined, { leading: true, trailing: true })),
  );
  readonly #allKnots = load(signal('now').asReadonly(), () => this.#knots.knots());
  protected readonly knotChoices = computed((): Choice[] => [
    { value: '', says: 'every knot' },
    ...(this.#allKnots.value() ?? []).flatMap(({ id, name, version }) =>
      version > 0 ? [{ value: id, says: name }] : [],
    ),
  ]);
  protected readonly total = computed(
    () => this.list.value()?.groups.reduce((sum, group) => sum + group.count, 0) ?? 0,
  );

  protected go(knot: string): void {
    void this.#router.navigate([], { queryParams: { knot: knot || null }, replaceUrl: true });
  }

  /** What the list of decisions is asked for. */
  protected filterOf({ knot, kind, field, reason, system }: FailureGroup): Record<string, string> {
    return { knot, kind, reason, ...(field === null ? {} : { field }), ...(system ? { system: system.system } : {}) };
  }

  /** Why, as who says it: a system in its own words, or the reason here. */
  protected why({ kind, reason, system, fieldName }: FailureGroup): string {
    if (kind === 'refused') return `${system?.systemName ?? 'The system'} says: ${reason}`;
    return fieldName === null ? reason : `${fieldName}: ${reason}`;
  }

  /** As many at once as the server takes, until none is left. */
  protected tryAgain({ knot, decision, fingerprint }: FailureGroup): void {
    const some = () => this.#decisions.tryAlikeAgain({ knot, id: decision, fingerprint });
    const all = some().pipe(
      expand(({ done, not }) => (done.length > 0 && done.length + not.length >= mostInFile ? some() : EMPTY)),
      reduce((sum, { done }) => sum + done.length, 0),
    );
    this.asking.ask(all, (tried) => {
      this.#telling.say(`${plural(tried, 'write')} will be tried again with the next run.`);
      this.#live.decided.next();
    });
  }

  protected download(group: FailureGroup): void {
    this.asking.ask(this.#api.file(group), (text) => {
      this.#downloads.save(`${group.knotName} ${group.kind}.csv`, 'text/csv', text);
    });
  }

  protected takeIn(group: FailureGroup, file: File): void {
    this.taken.set(undefined);
    this.asking.ask(from(file.text()).pipe(switchMap((text) => this.#api.takeIn(group, text))), (outcome) => {
      this.taken.set({ group, outcome });
      this.#live.decided.next();
    });
  }
}
