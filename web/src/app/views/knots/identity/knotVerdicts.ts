import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { MemberSummary } from '@anchor-knot/contracts';
import { DecisionsApi } from '../../../api/decisionsApi';
import { Asking } from '../../../api/asking';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { Pennant } from '../../../pennant/pennant';
import { plural } from '../../../words/sentences';
import { State } from '../../state';
import { IdentityTabs } from './identityTabs';
import { ProblemText } from '../../problem';
import { AgoTime } from '../../../words/agoTime';
import { tableParts } from '../../../tables/rows';

/** What people have said of pairs of records: it outranks every rule until it is taken back. */
@Component({
  selector: 'ak-knot-verdicts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ProblemText, MatButtonModule, RouterLink, Pennant, State, IdentityTabs, AgoTime],
  templateUrl: './knotVerdicts.html',
  styles: `:host { display: block; } .head { padding-block: 4px 10px; max-width: 100ch; margin: 0; }`,
})
export class KnotVerdicts {
  readonly knot = input.required<string>();
  readonly #api = inject(DecisionsApi);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly before = signal<string | null>(null);
  readonly #question = computed((): { knot: string; query: Record<string, string> } => ({
    knot: this.knot(),
    query: this.before() ? { before: this.before() as string } : {},
  }));
  protected readonly list = load(
    this.#question,
    ({ knot, query }) => this.#api.verdicts(knot, query),
    inject(LiveEvents).ends,
  );
  protected readonly plural = plural;

  protected memberOf(id: string): MemberSummary | undefined {
    return this.list.value()?.members.find((member) => member.id === id);
  }
  protected takeBack(verdict: string): void {
    this.asking.ask(this.#api.takeBackVerdict(this.knot(), verdict), () => this.list.reload());
  }
}
