import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { DatePipe } from '@angular/common';
import { MatButtonModule } from '@angular/material/button';
import { MatProgressBarModule } from '@angular/material/progress-bar';
import { Router, RouterLink } from '@angular/router';
import type { ObjectSummary, SystemView } from '@anchor-knot/contracts';
import { merge, type Observable, of, switchMap, timer } from 'rxjs';
import { SystemsApi } from '../../api/systemsApi';
import { Telling } from '../../telling/telling';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { WithSide } from '../../layout/withSide';
import { Pennant } from '../../pennant/pennant';
import { count, plural } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { CredentialForm } from './credentialForm';
import { ProbeSteps } from './probeSteps';
import { whileProfiling } from './profiling';
import { AgoTime } from '../../words/agoTime';
import { tableParts } from '../../tables/rows';

/** What is connected here, what is in it, is it healthy, and what may we do? */
@Component({
  selector: 'ak-one-system-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    WithSide,
    MatProgressBarModule,
    RouterLink,
    MatButtonModule,
    Pennant,
    State,
    ListKeys,
    ProbeSteps,
    CredentialForm,
    DatePipe,
    ExactTimePipe,
    AgoTime,
  ],
  templateUrl: './systemView.html',
  styleUrl: './systemView.scss',
})
export class OneSystemView {
  readonly id = input.required<string>();
  protected readonly session = inject(SessionService);
  readonly #api = inject(SystemsApi);
  readonly #telling = inject(Telling);
  readonly #router = inject(Router);
  protected readonly count = count;
  protected readonly testing = signal(false);
  protected readonly replacing = signal(false);
  readonly #askedAt = signal(0);
  protected readonly view = load(
    this.id,
    (id) => this.#api.system(id),
    merge(
      inject(LiveEvents).ends,
      whileProfiling(this.#askedAt, () => this.#isProfiling()),
    ),
  );
  protected readonly plural = plural;
  protected readonly looking = signal('');
  protected readonly deliveries = load(
    this.looking,
    (id) => (id === '' ? of(undefined) : this.#api.deliveries(id)),
    timer(3000, 3000),
  );
  protected readonly idLabel = computed(() => (this.view.value()?.description.kind === 'sql' ? 'Role' : 'Id or key'));
  protected readonly secretLabel = computed(() =>
    this.view.value()?.description.kind === 'sql' ? 'Password' : 'Secret',
  );

  #isProfiling(): boolean {
    return (
      this.view.value()?.objects.some(({ profile }) => profile?.state === 'waiting' || profile?.state === 'reading') ??
      true
    );
  }

  protected profileAll(objects: readonly ObjectSummary[]): void {
    for (const { name } of objects)
      this.#api.profile(this.id(), name).subscribe({ error: (error: unknown) => this.#telling.sayProblem(error) });
    this.#askedAt.set(Date.now());
  }

  protected test(): void {
    this.testing.set(true);
    this.#api.probe(this.id()).subscribe({
      next: () => {
        this.testing.set(false);
        this.view.reload();
      },
      error: (error: unknown) => {
        this.testing.set(false);
        this.#telling.sayProblem(error);
      },
    });
  }

  /** Within the two weeks in which it is told of. @param day `YYYY-MM-DD` */
  protected endsSoon(day: string): boolean {
    return Date.parse(day) - Date.now() < 14 * 24 * 3600 * 1000;
  }

  protected left({ today, perDay }: NonNullable<SystemView['calls']>): number {
    return Math.max(0, (perDay ?? 0) - today);
  }

  protected limits({ perSecond, atOnce }: NonNullable<SystemView['calls']>): string {
    return [
      perSecond === null ? '' : `at most ${count(perSecond)} a second`,
      atOnce === null ? '' : `at most ${count(atOnce)} at once`,
    ]
      .filter(Boolean)
      .join(', ');
  }

  protected giveConsent(): void {
    this.#api
      .beginConsent(this.id())
      .subscribe({ next: (url) => location.assign(url), error: (error: unknown) => this.#telling.sayProblem(error) });
  }

  protected giveBack(name: string): void {
    this.#telling
      .confirm({
        title: `Give the consent of ${name} back?`,
        says: 'Nothing can be read or written there until somebody gives it again.',
        action: 'Give it back',
      })
      .subscribe(() => this.#then(this.#api.giveConsentBack(this.id())));
  }

  /** Objects that have events and are not subscribed to. */
  protected subscribable({ description, subscriptions }: SystemView): string[] {
    if (description.kind !== 'http') return [];
    return Object.entries(description.objects).flatMap(([name, { events }]) =>
      events.length > 0 && !subscriptions.some(({ object }) => object === name) ? [name] : [],
    );
  }

  protected subscribe(object: string): void {
    this.#then(this.#api.subscribeTo(this.id(), object));
  }

  protected endSubscription(object: string): void {
    this.#then(this.#api.endSubscription(this.id(), object));
  }

  protected checkSubscriptions(): void {
    this.#then(this.#api.checkSubscriptions(this.id()));
  }

  protected look(subscription: string): void {
    this.looking.set(this.looking() === subscription ? '' : subscription);
  }

  #then(change: Observable<unknown>): void {
    change.subscribe({
      next: () => this.view.reload(),
      error: (error: unknown) => {
        this.#telling.sayProblem(error);
        this.view.reload();
      },
    });
  }

  protected replaced(done: boolean): void {
    this.replacing.set(false);
    if (!done) return;
    this.#telling.say('Replaced. Everything that uses this system signs in with it from now on.');
    this.test();
  }

  protected withdraw(name: string): void {
    this.#telling
      .confirm({
        title: `Withdraw the secret of ${name}?`,
        says:
          'It is forgotten here, with the consent that was had by it. Nothing can be read or written there until ' +
          'another is given; a run that is under way goes on to its end.',
        action: 'Withdraw',
      })
      .subscribe(() => this.#then(this.#api.withdrawCredential(this.id())));
  }

  protected disconnect(name: string): void {
    const text = {
      title: `Disconnect ${name}?`,
      says:
        'Its description, its secret and what is known of its objects are forgotten. ' +
        'Nothing is changed in the system itself.',
      action: 'Disconnect',
    };
    this.#telling
      .confirm(text)
      .pipe(switchMap(() => this.#api.disconnectSystem(this.id())))
      .subscribe({
        next: () => void this.#router.navigateByUrl('/systems'),
        error: (error: unknown) => this.#telling.sayProblem(error),
      });
  }
}
