import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { Router, RouterLink } from '@angular/router';
import type { ObjectSummary } from '@anchor-knot/contracts';
import { merge } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { LiveRuns } from '../../api/liveRuns';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { count } from '../../words/sentences';
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
            <h2>Signs in as</h2>
            @if (replacing()) { <ak-credential-form [system]="id()" [idLabel]="idLabel()" [secretLabel]="secretLabel()" (done)="replaced($event)" /> }
            @else {
              <p class="small"><span class="value">{{ one.signsInAs ?? 'nobody' }}</span>@if (session.may('administrator')) { <button class="link" type="button" (click)="replacing.set(true)">Replace</button> }<br />Use an account made for this connection, not a person’s: it stays when people leave, and may do no more than is needed.</p>
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
  styles: `h1 ak-pennant { vertical-align: 2px; } .block { display: block; } .note { white-space: pre-line; } .link { margin-left: 8px; border: 0; background: none; padding: 2px 0; color: var(--petrol); text-decoration: underline; cursor: pointer; font-size: 12.5px; min-height: 24px; }`,
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
      inject(LiveRuns).ends,
      whileProfiling(this.#askedAt, () => this.#isProfiling()),
    ),
  );
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
