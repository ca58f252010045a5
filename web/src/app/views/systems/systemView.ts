import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { Router, RouterLink } from '@angular/router';
import type { ObjectSummary, SystemView } from '@anchor-knot/contracts';
import { merge, type Observable, of, timer } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { count, plural } from '../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { CredentialForm } from './credentialForm';
import { ProbeSteps } from './probeSteps';
import { whileProfiling } from './profiling';

/** What is connected here, what is in it, is it healthy, and what may we do? */
@Component({
  selector: 'ak-one-system-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, MatButtonModule, Pennant, State, ListKeys, ProbeSteps, CredentialForm, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header>
        @if (view.value(); as one) {
          <h1><ak-pennant [settings]="one.summary.pennant" [name]="one.summary.name" /> {{ one.summary.name }}</h1>
          <small>{{ one.summary.kind }} · <span class="value">{{ one.summary.address }}</span>@if (one.environment === 'test copy') { · <strong class="waits">test copy</strong>} @else { · production}</small>
          <div class="acts">
            @if (session.may('administrator')) { <a mat-button [routerLink]="['/systems', id(), 'change']">Change</a> }
            @if (session.may('operator')) {
              <button mat-stroked-button type="button" [disabled]="testing()" (click)="test()">{{ testing() ? 'Testing…' : 'Test' }}</button>
              <button mat-flat-button type="button" (click)="profileAll(one.objects)">Profile all</button>
            }
          </div>
        } @else { <h1>System</h1> }
      </header>
      <ak-state [of]="view" />
      @if (view.value(); as one) {
        <div class="body">
          <div class="scroll">
            @if (one.objects.length === 0) { <p class="empty">No object is described yet. @if (session.may('administrator')) {<a [routerLink]="['/systems', id(), 'change']">Describe the objects</a> that shall be read or written.}</p> } @else {
              <table class="plain" akListKeys>
                <thead><tr><th scope="col">Object</th><th scope="col">Holds</th><th scope="col">We may</th><th scope="col">What changed</th><th scope="col" class="number">Records</th><th scope="col" class="number">Fields</th><th scope="col">Profiled</th></tr></thead>
                <tbody>
                  @for (object of one.objects; track object.name) {
                    <tr>
                      <th scope="row"><a [routerLink]="['/systems', id(), 'objects', object.name, 'fields']"><strong>{{ object.name }}</strong></a></th>
                      <td>{{ object.holds }}@if (object.holdsIsGuessed) {<small class="block">guessed</small>}</td>
                      <td>{{ object.may.join(', ') }}</td>
                      <td>{{ object.tellsChanges ? 'can be asked for' : 'found by reading all' }}</td>
                      <td class="number">{{ object.records === null ? '—' : count(object.records) }}</td>
                      <td class="number">{{ object.fields === null ? '—' : object.fields }}</td>
                      <td>
                        @if (object.profile; as profile) {
                          @switch (profile.state) {
                            @case ('waiting') { waits for a worker }
                            @case ('reading') { reading: {{ count(profile.records) }} }
                            @case ('failed') { <span class="wrong">failed</span><small class="block">{{ profile.words }}</small> }
                            @default { <span [title]="profile.endedAt ?? profile.startedAt | exactTime">{{ profile.endedAt ?? profile.startedAt | ago }}</span> }
                          }
                        } @else { <span class="quiet">not yet</span> }
                        @if (object.changedAt; as at) { <small class="block waits">fields changed {{ at | ago }}</small> }
                      </td>
                    </tr>
                  }
                </tbody>
              </table>
            }
          </div>
          <aside>
            <h2>Health @if (one.probe; as probe) {<span class="quiet" [title]="probe.at | exactTime">{{ probe.at | ago }}</span>}</h2>
            @if (one.summary.trouble; as trouble) { @if (!one.probe || one.probe.ok) { <p class="small"><strong class="wrong">{{ trouble.code }}</strong><br />{{ trouble.words }} {{ trouble.advice }}</p> } }
            @if (one.probe; as probe) {
              <ak-probe-steps [probe]="probe" />
              @if (probe.answerMs !== undefined) { <p class="small">The first page took {{ probe.answerMs }} ms.</p> }
            } @else { <p class="small quiet">Not tested yet. A test reads one page of each object, and writes nothing.</p> }
            @if (one.calls; as calls) {
              <h2>Calls today</h2>
              <p class="small"><span class="value">{{ count(calls.today) }}</span>{{ calls.perDay === null ? '' : ' of ' + count(calls.perDay) + ', ' + count(left(calls)) + ' left' }}@if (limits(calls); as words) {<br />{{ words }}}@if (calls.restUntil; as until) {<br /><span class="waits">It asked to be left alone until <span [title]="until | exactTime">{{ until | exactTime }}</span>.</span>}</p>
              @if (calls.perDay !== null) { <meter min="0" [max]="calls.perDay" [high]="calls.perDay * 0.9" [value]="calls.today" aria-label="Calls used today"></meter> }
            }
            @if (one.consent; as consent) {
              <h2>Consent</h2>
              <p class="small">@if (consent.given) { Given by {{ consent.by }} @if (consent.at; as at) {<span [title]="at | exactTime">{{ at | ago }}</span>}.@if (consent.granted) {<br />Granted: <span class="value">{{ consent.granted }}</span>} } @else { <strong class="waits">Nobody has given it yet, or it was taken back.</strong> }</p>
              @if (session.may('administrator')) {
                <p><button mat-stroked-button type="button" (click)="giveConsent()">{{ consent.given ? 'Give it anew' : 'Give consent' }}</button>@if (consent.given) { <button class="link" type="button" (click)="giveBack(one.summary.name)">Give it back</button> }</p>
              }
            }
            <h2>Signs in as</h2>
            @if (replacing()) { <ak-credential-form [system]="id()" [idLabel]="idLabel()" [secretLabel]="secretLabel()" (done)="replaced($event)" /> }
            @else {
              <p class="small"><span class="value">{{ one.signsInAs ?? 'nobody' }}</span>@if (session.may('administrator')) { <button class="link" type="button" (click)="replacing.set(true)">Replace</button> }<br />Use an account made for this connection, not a person’s: it stays when people leave, and may do no more than is needed.</p>
            }
            @if (one.description.kind === 'http' && one.description.webhooks) {
              <h2>Subscribed</h2>
              <ul>
                @for (subscription of one.subscriptions; track subscription.id) {
                  <li>
                    <strong>{{ subscription.object }}</strong>&ngsp;<span [class.wrong]="subscription.state !== 'working'">{{ subscription.state === 'working' ? 'working' : 'in doubt' }}</span>
                    <small class="block">{{ plural(subscription.received, 'delivery', 'deliveries') }}@if (subscription.lastAt; as at) {, the last <span [title]="at | exactTime">{{ at | ago }}</span>}{{ subscription.refused ? ', ' + count(subscription.refused) + ' refused' : '' }}{{ subscription.putRight ? ', put right ' + plural(subscription.putRight, 'time') : '' }}</small>
                    @if (subscription.words) { <small class="block waits">{{ subscription.words }}</small> }
                    @if (session.may('operator')) { <button class="link inline" type="button" (click)="look(subscription.id)">{{ looking() === subscription.id ? 'Close' : 'What came' }}</button> }
                    @if (session.may('administrator')) { <button class="link" type="button" (click)="endSubscription(subscription.object)">End it</button> }
                    @if (looking() === subscription.id) { <ol class="came">@for (delivery of deliveries.value()?.deliveries?.slice(0, 12) ?? []; track delivery.id) {<li><span [title]="delivery.receivedAt | exactTime">{{ delivery.receivedAt | ago }}</span> <code class="value">{{ delivery.body }}</code></li>} @empty {<li class="quiet">Nothing yet.</li>}</ol> }
                  </li>
                } @empty { <li class="quiet">To nothing. A system that tells what happens need not be asked so often.</li> }
              </ul>
              @if (session.may('administrator')) { @for (object of subscribable(one); track object) { <button class="link first" type="button" (click)="subscribe(object)">Subscribe to {{ object }}</button> } }
              @if (one.subscriptions.length > 0 && session.may('operator')) { <button class="link first" type="button" (click)="checkSubscriptions()">See whether they are in order there</button> }
            }
            <h2>Used in</h2>
            <ul>@for (knot of one.summary.usedIn; track knot.knot) {<li><a [routerLink]="['/knots', knot.knot, 'members']">{{ knot.name }}</a></li>} @empty {<li class="quiet">No knot.@if (session.may('administrator')) { <button class="link" type="button" (click)="disconnect(one.summary.name)">Disconnect it</button> }</li>}</ul>
            @if (one.note) { <h2>Note</h2><p class="small note">{{ one.note }}</p> }
            @if (one.summary.pageAddress; as page) { <p><a [href]="page" target="_blank" rel="noopener">Open its own page<span class="hidden"> (new tab)</span></a></p> }
          </aside>
        </div>
      }
    </div>
  `,
  styles: `aside h2:not(:first-child) { margin-top: 18px; } h1 ak-pennant { vertical-align: 2px; } .block { display: block; } .note { white-space: pre-line; } meter { width: 100%; margin-bottom: 8px; } aside h2 + p { margin-top: 4px; } .link { margin-left: 8px; min-height: 24px; } .link.inline { margin-left: 0; } .came { list-style: none; padding: 0; } .came code { display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; font-size: 12px; } .link.first { display: block; margin-left: 0; padding: 0; }`,
})
export class OneSystemView {
  readonly id = input.required<string>();
  protected readonly session = inject(SessionService);
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
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
  protected readonly deliveries = load(this.looking, (id) => (id === '' ? of(undefined) : this.#api.deliveries(id)), timer(3000, 3000));
  protected readonly idLabel = computed(() => (this.view.value()?.description.kind === 'sql' ? 'Role' : 'Id or key'));
  protected readonly secretLabel = computed(() => (this.view.value()?.description.kind === 'sql' ? 'Password' : 'Secret'));

  #isProfiling(): boolean {
    return this.view.value()?.objects.some(({ profile }) => profile?.state === 'waiting' || profile?.state === 'reading') ?? true;
  }

  protected profileAll(objects: readonly ObjectSummary[]): void {
    for (const { name } of objects) this.#api.profile(this.id(), name).subscribe({ error: (error: unknown) => this.#say(error) });
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
        this.#say(error);
      },
    });
  }

  protected left({ today, perDay }: NonNullable<SystemView['calls']>): number {
    return Math.max(0, (perDay ?? 0) - today);
  }

  protected limits({ perSecond, atOnce }: NonNullable<SystemView['calls']>): string {
    return [perSecond === null ? '' : `at most ${count(perSecond)} a second`, atOnce === null ? '' : `at most ${count(atOnce)} at once`].filter(Boolean).join(', ');
  }

  protected giveConsent(): void {
    this.#api.beginConsent(this.id()).subscribe({ next: (url) => location.assign(url), error: (error: unknown) => this.#say(error) });
  }

  protected giveBack(name: string): void {
    if (confirm(`Give the consent of ${name} back? Nothing can be read or written there until somebody gives it again.`)) this.#then(this.#api.giveConsentBack(this.id()));
  }

  /** Objects that have events and are not subscribed to. */
  protected subscribable({ description, subscriptions }: SystemView): string[] {
    if (description.kind !== 'http') return [];
    return Object.entries(description.objects).flatMap(([name, { events }]) => (events.length > 0 && !subscriptions.some(({ object }) => object === name) ? [name] : []));
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
        this.#say(error);
        this.view.reload();
      },
    });
  }

  protected replaced(done: boolean): void {
    this.replacing.set(false);
    if (!done) return;
    this.#snack.open('Replaced. Everything that uses this system signs in with it from now on.', 'Close');
    this.test();
  }

  protected disconnect(name: string): void {
    if (!confirm(`Disconnect ${name}? Its description, its secret and what is known of its objects are forgotten. Nothing is changed in the system itself.`)) return;
    this.#api.disconnectSystem(this.id()).subscribe({ next: () => void this.#router.navigateByUrl('/systems'), error: (error: unknown) => this.#say(error) });
  }

  #say(error: unknown): void {
    const { says, advice } = problemOf(error);
    this.#snack.open(`${says} ${advice ?? ''}`, 'Close');
  }
}
