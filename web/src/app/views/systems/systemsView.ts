import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { Api } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { AgoPipe, ExactTimePipe } from '../../words/times';
import { ListKeys } from '../listKeys';
import { State } from '../state';

/** What is connected, and is it healthy? */
@Component({
  selector: 'ak-systems-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, MatButtonModule, ListKeys, Pennant, State, AgoPipe, ExactTimePipe],
  template: `
    <div class="page">
      <header><h1>Systems</h1>@if (session.may('administrator')) {<div class="acts"><a mat-flat-button routerLink="/systems/connect">Connect a system</a></div>}</header>
      <ak-state [of]="systems" />
      @if (systems.value(); as all) {
        <div class="scroll">
          @if (all.length === 0) { <p class="empty">No system is connected. Connected applications, databases and folders will be listed here, with their health.@if (session.may('administrator')) {<br /><br /><a mat-flat-button routerLink="/systems/connect">Connect the first one</a>}</p> } @else {
            <table class="plain" akListKeys>
              <thead><tr><th scope="col">System</th><th scope="col">Kind</th><th scope="col">Address</th><th scope="col">Objects</th><th scope="col">How it is</th><th scope="col">Used in</th></tr></thead>
              <tbody>
                @for (system of all; track system.id) {
                  <tr>
                    <th scope="row"><a class="title" [routerLink]="['/systems', system.id]"><ak-pennant [settings]="system.pennant" [name]="system.name" [shown]="true" /></a>@if (system.environment === 'test copy') {<small class="waits">test copy</small>}</th>
                    <td class="whole">{{ system.kind }}</td>
                    <td><span class="value">{{ system.address }}</span>@if (system.pageAddress) {<small><a [href]="system.pageAddress" target="_blank" rel="noopener">open its own page<span class="hidden"> ({{ system.name }}, new tab)</span></a></small>}</td>
                    <td>@for (object of system.objects; track object; let last = $last) {<a [routerLink]="['/systems', system.id, 'objects', object, 'fields']">{{ object }}</a>{{ last ? '' : ', ' }}} @empty {<span class="quiet">none described</span>}</td>
                    <td>
                      @if (system.trouble; as trouble) { <span class="mark wrong"></span><strong class="wrong">{{ trouble.code }}</strong><br /><small>{{ trouble.words }} {{ trouble.advice }}</small> }
                      @else if (system.checkedAt) { <span class="mark"></span>answers<br /> }
                      @else { <span class="whole"><span class="mark none"></span>not asked yet</span> }
                      @if (system.checkedAt; as at) { <small class="whole" [title]="at | exactTime">seen {{ at | ago }}</small> }
                    </td>
                    <td>@for (knot of system.usedIn; track knot.knot) {<a [routerLink]="['/knots', knot.knot, 'members']">{{ knot.name }}</a>} @empty {<span class="quiet">no knot</span>}</td>
                  </tr>
                }
              </tbody>
            </table>
          }
        </div>
      }
    </div>
  `,
  styles: `td small { display: block; max-width: 44ch; } .whole { white-space: nowrap; }`,
})
export class SystemsView {
  protected readonly session = inject(SessionService);
  readonly #api = inject(Api);
  protected readonly systems = load(signal('all').asReadonly(), () => this.#api.systems(), inject(LiveEvents).ends);
}
