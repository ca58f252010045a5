import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { DuplicateList, MemberSummary } from '@anchor-knot/contracts';
import { DecisionsApi } from '../../../api/decisionsApi';
import { Asking } from '../../../api/asking';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { recordLink } from '../../../grid/recordLink';
import { Pennant } from '../../../pennant/pennant';
import { Telling } from '../../../telling/telling';
import { count, plural } from '../../../words/sentences';
import { State } from '../../state';
import { IdentityTabs } from './identityTabs';
import { ProblemText } from '../../problem';
import { AgoTime } from '../../../words/agoTime';
import { tableParts } from '../../../tables/rows';

type Group = DuplicateList['groups'][number];

/** Records of one system that seem to be one thing; which of them carries the tie is for a person to say. */
@Component({
  selector: 'ak-knot-duplicates',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ProblemText, MatButtonModule, RouterLink, Pennant, State, IdentityTabs, AgoTime],
  templateUrl: './knotDuplicates.html',
  styleUrl: './knotDuplicates.scss',
})
export class KnotDuplicates {
  readonly knot = input.required<string>();
  readonly #api = inject(DecisionsApi);
  readonly #telling = inject(Telling);
  readonly #live = inject(LiveEvents);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly after = signal<string | null>(null);
  readonly #question = computed((): { knot: string; query: Record<string, string> } => ({
    knot: this.knot(),
    query: this.after() ? { after: this.after() as string } : {},
  }));
  protected readonly list = load(
    this.#question,
    ({ knot, query }) => this.#api.duplicates(knot, query),
    this.#live.ends,
  );
  protected readonly count = count;
  /** How many records are set aside, as the end of a sentence. */
  protected readonly aside = ({ setAsideTotal }: DuplicateList): string =>
    setAsideTotal > 0 ? `, and ${plural(setAsideTotal, 'record')} set aside` : '';
  protected readonly plural = plural;

  protected memberOf(id: string): MemberSummary | undefined {
    return this.list.value()?.members.find((member) => member.id === id);
  }
  protected link(member: string, key: string): string | null {
    return recordLink(this.memberOf(member), key);
  }
  protected keep({ decision, fingerprint }: Group, key: string): void {
    this.#decide(decision, `Record ${key} carries the tie; the others are set aside.`, () =>
      this.#api.decide(this.knot(), decision, { choose: 'record', key, fingerprint }),
    );
  }
  protected different({ decision, fingerprint }: Group): void {
    this.#decide(decision, 'They are different things.', () =>
      this.#api.decide(this.knot(), decision, { choose: 'different', fingerprint }),
    );
  }
  protected takeIn(member: string, key: string): void {
    this.asking.ask(this.#api.takeIn(this.knot(), member, key), () => this.list.reload());
  }
  #decide(decision: string, says: string, ask: () => ReturnType<DecisionsApi['decide']>): void {
    this.asking.ask(ask(), () => {
      this.#live.decided.next();
      this.list.reload();
      this.#telling
        .offer(`${says} The next run acts on it.`, 'Undo')
        .subscribe(() => this.asking.ask(this.#api.undoDecision(this.knot(), decision), () => this.list.reload()));
    });
  }
}
