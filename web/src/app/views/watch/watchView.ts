import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { type DecisionKind, decisionKinds, type Watch } from '@anchor-knot/contracts';
import { throttleTime } from 'rxjs';
import { Api } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { kindWords, plural, runSentence } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { StartRun } from '../runs/startRun';
import { State } from '../state';
import { WrittenChart } from './writtenChart';

/** Is everything telling the same story right now, and what needs me? */
@Component({
  selector: 'ak-watch-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, MatButtonModule, Pennant, State, WrittenChart, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header><h1>{{ headline() }}</h1></header>
      <ak-state [of]="watch" />
      @if (watch.value(); as now) {
        <div class="body">
          <div class="scroll">
            @if (now.knots.length === 0) {
              <p class="empty">Nothing is connected yet. Systems and knots will be listed here, with what agrees and what does not.</p>
            } @else {
              <table class="plain">
                <thead><tr><th scope="col">Knot<br /><small>anchors</small></th>@for (system of columns(); track system.id) {<th scope="col"><ak-pennant [settings]="system.pennant" [name]="system.name" [shown]="true" [short]="columns().length > mostNamed" [title]="system.name" /><br /><small [class.wrong]="system.trouble" [title]="system.trouble?.words ?? ''">{{ system.trouble ? 'in trouble: ' + system.trouble.code : system.checkedAt ? 'answers' : 'not asked yet' }}</small></th>}<th scope="col">Last run</th><th scope="col"><span class="hidden">Actions</span></th></tr></thead>
                <tbody>
                  @for (knot of now.knots; track knot.id) {
                    <tr>
                      <th scope="row"><a [routerLink]="['/knots', knot.id, 'fields']"><strong>{{ knot.name }}</strong></a><br /><small>{{ agreement(knot) }}</small></th>
                      @for (system of columns(); track system.id) {
                        <td>
                          @if (memberOf(knot, system.id); as member) {
                            <span class="mark" [class.wrong]="member.trouble" [class.waits]="!member.trouble && member.waiting > 0" [class.none]="member.ties === 0"></span><span class="value inline">{{ member.ties.toLocaleString('en-GB') }}</span><br />
                            <small class="indent">{{ member.trouble ? 'in trouble' : member.waiting > 0 ? member.waiting + (member.waiting === 1 ? ' waits for you' : ' wait for you') : 'tied' }}</small>
                          } @else { <span class="quiet">—</span> }
                        </td>
                      }
                      <td>
                        @if (knot.openRun; as run) { <a [routerLink]="['/runs', run.id]">{{ run.kind }} is on</a><br /><small>{{ sentence(run, knot) }}</small> }
                        @else if (knot.lastRun; as run) { <a [routerLink]="['/runs', run.id]" [title]="run.startedAt | exactTime">{{ run.startedAt | ago }}</a><br /><small [class.wrong]="run.state === 'failed'" [class.waits]="run.state !== 'failed' && run.state !== 'succeeded'">{{ run.state }}</small> }
                        @else { <span class="quiet">never ran</span> }
                      </td>
                      <td class="acts">
                        @if (session.may('operator')) {
                          <button mat-stroked-button type="button" (click)="runs.start(knot.id, 'dry run')">Dry run</button>
                          <button mat-flat-button type="button" (click)="runs.start(knot.id, 'run')">Run now</button>
                        }
                      </td>
                    </tr>
                  }
                </tbody>
              </table>
              <section class="pad">
                <h2>Written in the last 24 hours <span class="quiet">{{ plural(written(), 'value') }}</span></h2>
                <ak-written-chart [hours]="now.written" [total]="written()" />
              </section>
              <section class="pad">
                <h2>Last runs</h2>
                <table class="plain runs">
                  <tbody>@for (run of now.lastRuns; track run.id) {<tr><td><a [routerLink]="['/runs', run.id]" [title]="run.startedAt | exactTime">{{ run.startedAt | ago }}</a></td><td>{{ run.kind }}</td><td>{{ sentenceOf(run, now) }}</td><td [class.wrong]="run.state === 'failed'" [class.waits]="run.state !== 'failed' && run.state !== 'succeeded'">{{ run.state }}</td><td>{{ run.startedBy }}</td></tr>} @empty {<tr><td class="quiet">Nothing has run yet. A dry run shows what would be written, and writes nothing.</td></tr>}</tbody>
                </table>
              </section>
            }
          </div>
          <aside aria-labelledby="waits">
            <h2 id="waits">Waits for you · {{ waitingCount() }}</h2>
            <ul>
              @for (one of now.waiting; track one.knot + one.kind) {
                <li><span class="mark" [class]="settleable(one.kind) ? 'mark waits' : 'mark wrong'"></span><a routerLink="/decisions" [queryParams]="{ kind: one.kind }">{{ one.count }} {{ kindWords(one.kind, one.count) }}</a><small>{{ one.example }}</small></li>
              } @empty { <li class="quiet">Nothing. What needs a person will be listed here.</li> }
            </ul>
            @for (system of troubled(); track system.id) {
              <h2 class="wrong">{{ system.name }} is in trouble</h2>
              <p class="small">{{ system.trouble?.words }} {{ system.trouble?.advice }}</p>
            }
          </aside>
        </div>
      }
    </div>
  `,
  styles: `.inline { display: inline; } .indent { padding-left: 15px; } .acts { text-align: right; } .acts button { margin: 0 0 6px 8px; white-space: nowrap; } .runs td { white-space: nowrap; } .runs td:nth-child(3) { white-space: normal; width: 100%; } td br + small { display: inline-block; }`,
})
export class WatchView {
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  readonly #api = inject(Api);
  protected readonly watch = load(
    signal('now').asReadonly(),
    () => this.#api.watch(),
    inject(LiveEvents).anything.pipe(throttleTime(700, undefined, { leading: true, trailing: true })),
  );
  /** Systems that a knot uses; with more of them than this, their letters stand for their names. */
  protected readonly columns = computed(() => this.watch.value()?.systems.filter(({ usedIn }) => usedIn.length > 0) ?? []);
  protected readonly mostNamed = 4;
  protected readonly kindWords = kindWords;
  protected readonly plural = plural;
  protected readonly written = computed(() => this.watch.value()?.written.reduce((sum, { values }) => sum + values, 0) ?? 0);
  protected readonly waitingCount = computed(() => this.watch.value()?.waiting.reduce((sum, one) => sum + one.count, 0) ?? 0);
  protected readonly troubled = computed(() => this.watch.value()?.systems.filter(({ trouble }) => trouble) ?? []);
  protected readonly headline = computed(() => {
    const knots = this.watch.value()?.knots;
    if (!knots) return 'Watch';
    const anchors = knots.reduce((sum, knot) => sum + knot.anchors, 0);
    const agree = knots.reduce((sum, knot) => sum + knot.agree, 0);
    const only = knots.length === 1 ? knots[0] : undefined;
    const things = only ? `${only.thing}s` : 'things';
    if (anchors === 0) return only ? `No ${things} are tied yet` : 'Nothing is tied yet';
    return agree === anchors
      ? `All ${anchors.toLocaleString('en-GB')} ${things} agree everywhere`
      : `${agree.toLocaleString('en-GB')} of ${anchors.toLocaleString('en-GB')} ${things} agree everywhere`;
  });

  protected memberOf(knot: Watch['knots'][number], system: string) {
    return knot.members.find((member) => member.system === system);
  }
  protected agreement(knot: Watch['knots'][number]): string {
    if (knot.anchors === 0) return 'none yet';
    return knot.agree === knot.anchors
      ? `${knot.anchors.toLocaleString('en-GB')} · all agree`
      : `${knot.anchors.toLocaleString('en-GB')} · ${knot.agree.toLocaleString('en-GB')} agree`;
  }
  protected sentence(run: Watch['knots'][number]['lastRun'] & object, knot: Watch['knots'][number]): string {
    return runSentence(run, knot.members);
  }
  protected sentenceOf(run: Watch['lastRuns'][number], watch: Watch): string {
    return runSentence(run, watch.knots.find(({ id }) => id === run.knot)?.members ?? []);
  }
  protected settleable(kind: DecisionKind): boolean {
    return decisionKinds[kind].isSettledHere;
  }
}
