import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { MemberSummary } from '@anchor-knot/contracts';
import { Api } from '../../../api/api';
import { Asking } from '../../../api/asking';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { Pennant } from '../../../pennant/pennant';
import { plural } from '../../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../../words/times';
import { State } from '../../state';
import { IdentityTabs } from './identityTabs';

/** What people have said of pairs of records: it outranks every rule until it is taken back. */
@Component({
  selector: 'ak-knot-verdicts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, Pennant, State, IdentityTabs, AgoPipe, ExactTimePipe],
  template: `
    <ak-identity-tabs [knot]="knot()" />
    <ak-state [of]="list" />
    @if (list.value(); as all) {
      <p class="pad head"><b>{{ plural(all.total, 'verdict') }}</b>. What a person said outranks every rule and all evidence until it is taken back. Ties that it made stay; they can be undone on the anchor’s page.</p>
      @if (asking.problem(); as problem) { <p class="pad wrong" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
      <table class="plain">
        <thead><tr><th scope="col">Record</th><th scope="col">is</th><th scope="col">Record</th><th scope="col">Said by</th><th scope="col"></th></tr></thead>
        <tbody>
          @for (verdict of all.verdicts; track verdict.id) {
            <tr>
              @for (record of [verdict.a, verdict.b]; track $index; let first = $first) {
                <td>@if (memberOf(record.member); as member) {<ak-pennant [settings]="member.pennant" [name]="member.systemName" />} <span class="value">{{ record.key }}</span> @if (record.anchor) {<a [routerLink]="['/anchors', record.anchor]">{{ record.title }}</a>} @else {{{ record.title === record.key ? '' : record.title }}}</td>
                @if (first) { <td>{{ verdict.same ? 'the same as' : 'not the same as' }}</td> }
              }
              <td>{{ verdict.person }} <small [title]="verdict.at | exactTime">{{ verdict.at | ago }}</small></td>
              <td>@if (session.may('operator')) {<button type="button" class="link" [attr.aria-label]="'Take back: ' + verdict.a.key + ' and ' + verdict.b.key" [disabled]="asking.busy()" (click)="takeBack(verdict.id)">take it back</button>}</td>
            </tr>
          } @empty { <tr><td colspan="5" class="quiet">Nobody has said anything of a pair yet. What is decided of an unsure match, and what is tied or untied by hand, is listed here.</td></tr> }
        </tbody>
      </table>
      @if (all.next) { <p class="pad"><button mat-stroked-button type="button" (click)="before.set(all.next)">Show older ones</button></p> }
    }
  `,
  styles: `:host { display: block; } .head { padding-block: 4px 10px; max-width: 100ch; margin: 0; }`,
})
export class KnotVerdicts {
  readonly knot = input.required<string>();
  readonly #api = inject(Api);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly before = signal<string | null>(null);
  readonly #question = computed((): { knot: string; query: Record<string, string> } => ({ knot: this.knot(), query: this.before() ? { before: this.before() as string } : {} }));
  protected readonly list = load(this.#question, ({ knot, query }) => this.#api.verdicts(knot, query), inject(LiveEvents).ends);
  protected readonly plural = plural;

  protected memberOf(id: string): MemberSummary | undefined {
    return this.list.value()?.members.find((member) => member.id === id);
  }
  protected takeBack(verdict: string): void {
    this.asking.ask(this.#api.takeBackVerdict(this.knot(), verdict), () => this.list.reload());
  }
}
