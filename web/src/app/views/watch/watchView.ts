import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatButtonToggleModule } from '@angular/material/button-toggle';
import { RouterLink } from '@angular/router';
import { type DecisionKind, decisionKinds, passingKinds, type Watch } from '@anchor-knot/contracts';
import { MatTooltip } from '@angular/material/tooltip';
import { throttleTime } from 'rxjs';
import { RunsApi } from '../../api/runsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { WithSide } from '../../layout/withSide';
import { Pennant } from '../../pennant/pennant';
import { count, kindWords, plural, runSentence, starterWords } from '../../words/sentences';
import { StartRun } from '../runs/startRun';
import { State } from '../state';
import { type WrittenBar, WrittenChart } from './writtenChart';
import { AgoTime } from '../../words/agoTime';
import { exactTime } from '../../words/times';
import { tableParts } from '../../tables/rows';

const hourOf = (hour: string): string =>
  new Date(hour).toLocaleTimeString('en-GB', { hour: '2-digit', minute: '2-digit' });
/** A day of the calendar is the same wherever it is read. */
const dayOf = (day: string): string =>
  new Date(day).toLocaleDateString('en-GB', { day: 'numeric', month: 'short', timeZone: 'UTC' });

type Calls = NonNullable<Watch['systems'][number]['calls']>;

/** Is everything telling the same story right now, and what needs me? */
@Component({
  selector: 'ak-watch-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    WithSide,
    RouterLink,
    MatButtonModule,
    MatButtonToggleModule,
    Pennant,
    State,
    WrittenChart,
    AgoTime,
    MatTooltip,
  ],
  templateUrl: './watchView.html',
  styleUrl: './watchView.scss',
})
export class WatchView {
  protected readonly session = inject(SessionService);
  protected readonly runs = inject(StartRun);
  readonly #api = inject(RunsApi);
  protected readonly watch = load(
    signal('now').asReadonly(),
    () => this.#api.watch(),
    inject(LiveEvents).anything.pipe(throttleTime(700, undefined, { leading: true, trailing: true })),
  );
  /** Systems that a knot uses. */
  protected readonly used = computed(() => this.watch.value()?.systems.filter(({ usedIn }) => usedIn.length > 0) ?? []);
  protected readonly count = count;
  protected readonly kindWords = kindWords;
  protected readonly plural = plural;
  protected readonly starterWords = starterWords;
  protected readonly span = signal<'hours' | 'days'>('hours');
  protected readonly bars = computed((): readonly WrittenBar[] => {
    const now = this.watch.value();
    if (!now) return [];
    return this.span() === 'hours'
      ? now.written.map(({ hour, values }) => ({ label: hourOf(hour), written: values, failed: 0 }))
      : now.days.map(({ day, written, failed }) => ({ label: dayOf(day), written, failed }));
  });
  protected readonly writtenWords = computed(() => {
    const sum = (of: 'written' | 'failed'): number => this.bars().reduce((total, bar) => total + bar[of], 0);
    if (this.span() === 'hours') return plural(sum('written'), 'value');
    const days = this.watch.value()?.days ?? [];
    const runs = days.reduce((total, day) => total + day.runs, 0);
    const troubled = days.reduce((total, day) => total + day.troubled, 0);
    const refused = sum('failed') > 0 ? `, ${count(sum('failed'))} not taken` : '';
    const parts = troubled > 0 ? `, ${count(troubled)} of them not wholly well` : '';
    return `${plural(sum('written'), 'record')}${refused} · ${plural(runs, 'run')}${parts}`;
  });
  readonly #waiting = computed(() => this.watch.value()?.waiting ?? []);
  protected readonly forYou = computed(() => this.#waiting().filter(({ kind }) => !passingKinds.has(kind)));
  protected readonly passing = computed(() => this.#waiting().filter(({ kind }) => passingKinds.has(kind)));
  protected readonly waitingCount = computed(() => this.forYou().reduce((sum, one) => sum + one.count, 0));
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

  /** Until when everything is known of all members; nothing where it is known of none. */
  protected knownSince({ members }: Watch['knots'][number]): string | undefined {
    const known = members.flatMap(({ knownAt }) => knownAt ?? []);
    return known.length === members.length ? known.toSorted()[0] : undefined;
  }
  protected knownWords({ systemName, knownAt }: Watch['knots'][number]['members'][number]): string {
    return knownAt ? `${systemName}: everything older than ${exactTime(knownAt)} is known` : systemName;
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
  /** Calls that run short, or soon may. */
  protected scarceCalls({ calls }: Watch['systems'][number]): Calls | null {
    return calls && (calls.emptyAt !== null || calls.used * 2 > calls.perDay) ? calls : null;
  }
  protected percentOf({ used, perDay }: Calls): string {
    return (used / perDay).toLocaleString('en-GB', { style: 'percent', maximumFractionDigits: 0 });
  }
  protected callWords({ used, perDay, emptyAt }: Calls): string {
    const said = `${count(used)} of the day’s ${count(perDay)} calls are used.`;
    return emptyAt === null ? said : `${said} At this rate none is left at ${exactTime(emptyAt)}.`;
  }
  protected settleable(kind: DecisionKind): boolean {
    return decisionKinds[kind].isSettledHere;
  }
}
