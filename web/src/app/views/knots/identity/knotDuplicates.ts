import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { RouterLink } from '@angular/router';
import type { DuplicateList, MemberSummary } from '@anchor-knot/contracts';
import { Api } from '../../../api/api';
import { Asking } from '../../../api/asking';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { SessionService } from '../../../api/session';
import { recordLink } from '../../../grid/recordLink';
import { Pennant } from '../../../pennant/pennant';
import { count, plural } from '../../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../../words/times';
import { State } from '../../state';
import { IdentityTabs } from './identityTabs';

type Group = DuplicateList['groups'][number];

/** Records of one system that seem to be one thing; which of them carries the tie is for a person to say. */
@Component({
  selector: 'ak-knot-duplicates',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, Pennant, State, IdentityTabs, AgoPipe, ExactTimePipe],
  template: `
    <ak-identity-tabs [knot]="knot()" />
    <ak-state [of]="list" />
    @if (list.value(); as all) {
      <p class="pad head"><span><b>{{ plural(all.total, 'group') }}</b> of records of one system that seem to be one thing@if (all.setAsideTotal > 0) {, and <b>{{ plural(all.setAsideTotal, 'record') }}</b> set aside}.</span> <a mat-stroked-button [href]="'/api/knots/' + knot() + '/duplicates.csv'" download>Save as CSV</a></p>
      @if (asking.problem(); as problem) { <p class="pad wrong" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
      <table class="plain">
        <thead><tr><th scope="col">System</th><th scope="col">Records</th><th scope="col">Why</th><th scope="col">Since</th></tr></thead>
        <tbody>
          @for (group of all.groups; track group.decision) {
            <tr>
              <td>@if (memberOf(group.member); as member) {<ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" />}</td>
              <td>
                @for (record of group.records; track record.key) {
                  <div class="record">@if (link(group.member, record.key); as href) {<a class="value" [href]="href" target="_blank" rel="noopener">{{ record.key }}</a>} @else {<span class="value">{{ record.key }}</span>} {{ record.title === record.key ? '' : record.title }} @if (record.key === group.tiedKey) {<small class="good">carries the tie</small>} @if (session.may('operator')) {<button type="button" class="link" [attr.aria-label]="'Keep record ' + record.key" [disabled]="asking.busy()" (click)="keep(group, record.key)">{{ record.key === group.tiedKey ? 'leave it there' : 'let it carry the tie' }}</button>}</div>
                }
                @if (session.may('operator')) { <button type="button" class="link" [disabled]="asking.busy()" (click)="different(group)">they are different things</button> }
              </td>
              <td><small>{{ group.says }}</small>@if (group.anchor) {<br /><a [routerLink]="['/anchors', group.anchor]">{{ group.title }}</a>}</td>
              <td><span [title]="group.openedAt | exactTime">{{ group.openedAt | ago }}</span></td>
            </tr>
          } @empty { <tr><td colspan="4" class="quiet">No duplicates wait. Records of one system with the same key, or of which the evidence says that they are one thing, are listed here after a run.</td></tr> }
        </tbody>
      </table>
      @if (all.next) { <p class="pad"><button mat-stroked-button type="button" (click)="after.set(all.next)">Show the next ones</button></p> }
      @if (all.setAside.length > 0) {
        <h2>Set aside <small>they take no part until that is taken back</small></h2>
        <table class="plain">
          <thead><tr><th scope="col">System</th><th scope="col">Record</th><th scope="col">By</th><th scope="col"></th></tr></thead>
          <tbody>
            @for (record of all.setAside; track record.member + record.key) {
              <tr>
                <td>@if (memberOf(record.member); as member) {<ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" />}</td>
                <td>@if (link(record.member, record.key); as href) {<a class="value" [href]="href" target="_blank" rel="noopener">{{ record.key }}</a>} @else {<span class="value">{{ record.key }}</span>} {{ record.title === record.key ? '' : record.title }}</td>
                <td>{{ record.person ?? 'nobody known' }} @if (record.at; as at) {<small [title]="at | exactTime">{{ at | ago }}</small>}</td>
                <td>@if (session.may('operator')) {<button type="button" class="link" [attr.aria-label]="'Take record ' + record.key + ' in again'" [disabled]="asking.busy()" (click)="takeIn(record.member, record.key)">take it in again</button>}</td>
              </tr>
            }
          </tbody>
        </table>
        @if (all.setAsideTotal > all.setAside.length) { <p class="pad small">The first {{ count(all.setAside.length) }} are shown; the CSV has all.</p> }
      }
    }
  `,
  styles: `:host { display: block; } .head { display: flex; gap: 12px; align-items: center; flex-wrap: wrap; padding-block: 2px 10px; margin: 0; } .head a { margin-left: auto; } .record { padding: 1px 0; } h2 { padding: 18px 22px 6px; margin: 0; } h2 small { font-weight: 400; } td:first-child { width: 190px; } td:nth-child(3) { max-width: 420px; } .link { margin-left: 6px; }`,
})
export class KnotDuplicates {
  readonly knot = input.required<string>();
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly after = signal<string | null>(null);
  readonly #question = computed((): { knot: string; query: Record<string, string> } => ({ knot: this.knot(), query: this.after() ? { after: this.after() as string } : {} }));
  protected readonly list = load(this.#question, ({ knot, query }) => this.#api.duplicates(knot, query), inject(LiveEvents).ends);
  protected readonly count = count;
  protected readonly plural = plural;

  protected memberOf(id: string): MemberSummary | undefined {
    return this.list.value()?.members.find((member) => member.id === id);
  }
  protected link(member: string, key: string): string | null {
    return recordLink(this.memberOf(member), key);
  }
  protected keep({ decision, fingerprint }: Group, key: string): void {
    this.#decide(decision, `Record ${key} carries the tie; the others are set aside.`, () => this.#api.decide(this.knot(), decision, { choose: 'record', key, fingerprint }));
  }
  protected different({ decision, fingerprint }: Group): void {
    this.#decide(decision, 'They are different things.', () => this.#api.decide(this.knot(), decision, { choose: 'different', fingerprint }));
  }
  protected takeIn(member: string, key: string): void {
    this.asking.ask(this.#api.takeIn(this.knot(), member, key), () => this.list.reload());
  }
  #decide(decision: string, says: string, ask: () => ReturnType<Api['decide']>): void {
    this.asking.ask(ask(), () => {
      window.dispatchEvent(new Event('anchor-knot-decided'));
      this.list.reload();
      this.#snack
        .open(`${says} The next run acts on it.`, 'Undo', { duration: 12_000 })
        .onAction()
        .subscribe(() => this.asking.ask(this.#api.undoDecision(this.knot(), decision), () => this.list.reload()));
    });
  }
}
