import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Router, RouterLink } from '@angular/router';
import { newKnotSchema } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { State } from '../state';

interface ChosenObject {
  readonly system: string;
  readonly object: string;
}

/** A new knot: its name, and the objects that take part. All else is proposed and corrected afterwards, in the knot itself. */
@Component({
  selector: 'ak-new-knot-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, Pennant, State],
  template: `
    <div class="page">
      <header><h1>New knot</h1><small>One kind of thing that is kept the same in two or more systems</small>
        <div class="acts"><a mat-button routerLink="/knots">Leave</a><button mat-flat-button type="button" [disabled]="asking.busy()" (click)="make()">Begin</button></div>
      </header>
      <ak-state [of]="systems" />
      @if (asking.problem(); as problem) { <div class="banner" role="alert"><b>{{ problem.says }}</b> {{ problem.advice }}</div> }
      @if (said(); as says) { <div class="banner" role="alert">{{ says }}</div> }
      <div class="scroll pad">
        <div class="names">
          <label>Name<input maxlength="200" placeholder="Customers" [value]="name()" (input)="name.set($any($event.target).value)" /></label>
          <label>One of them is called<input maxlength="200" placeholder="customer" [value]="thing()" (input)="thing.set($any($event.target).value)" /></label>
        </div>
        <h2>Which objects take part?</h2>
        <p class="small">In the order in which they shall stand. Fields that correspond are proposed from what the records hold.</p>
        <div class="systems">
          @for (system of systems.value() ?? []; track system.id) {
            <fieldset>
              <legend><ak-pennant [settings]="system.pennant" [name]="system.name" [shown]="true" /></legend>
              @for (object of system.objects; track object) {
                <label class="line"><input type="checkbox" [checked]="place(system.id, object) > 0" (change)="toggle(system.id, object)" /> {{ object }}@if (place(system.id, object); as at) { <span class="place">{{ at }}</span> }</label>
              } @empty { <small class="quiet">no object is described</small> }
            </fieldset>
          } @empty { @if (systems.value()) { <p class="empty">No system is connected yet. <a routerLink="/systems/connect">Connect one</a> first.</p> } }
        </div>
      </div>
    </div>
  `,
  styles: `.names { display: flex; gap: 16px; } .names label { font-size: 12.5px; color: var(--ink-2); width: 300px; } .names input { width: 100%; box-sizing: border-box; } .systems { display: grid; grid-template-columns: repeat(auto-fill, minmax(230px, 1fr)); gap: 14px; } fieldset { border: 1px solid var(--hair); background: var(--sheet); padding: 8px 12px; } .line { display: block; padding: 3px 0; } .place { display: inline-block; min-width: 18px; text-align: center; background: var(--petrol); color: var(--sheet); font-size: 12px; border-radius: 9px; margin-left: 6px; } h2 { margin: 20px 0 2px; } .scroll { overflow: auto; }`,
})
export class NewKnotView {
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  protected readonly asking = new Asking();
  protected readonly systems = load(signal('now').asReadonly(), () => this.#api.systems());
  protected readonly name = signal('');
  protected readonly thing = signal('');
  readonly #chosen = signal<readonly ChosenObject[]>([]);
  readonly #tried = signal(false);
  protected readonly said = computed(() => {
    if (!this.#tried()) return '';
    const read = newKnotSchema.safeParse(this.#asked());
    return read.success
      ? ''
      : read.error.issues.map(({ path, message }) => `${path[0] === 'name' ? 'Name' : path[0] === 'thing' ? 'One of them is called' : 'Objects'}: ${message}`).join('. ');
  });
  readonly #asked = computed(() => ({ name: this.name(), thing: this.thing(), members: [...this.#chosen()] }));

  /** Its place among the chosen ones, from 1; 0 when it is not chosen. */
  protected place(system: string, object: string): number {
    return this.#chosen().findIndex((one) => one.system === system && one.object === object) + 1;
  }
  protected toggle(system: string, object: string): void {
    const isChosen = this.place(system, object) > 0;
    this.#chosen.update((all) => (isChosen ? all.filter((one) => one.system !== system || one.object !== object) : [...all, { system, object }]));
  }
  protected make(): void {
    this.#tried.set(true);
    if (this.said() === '') this.asking.ask(this.#api.newKnot(this.#asked()), (knot) => void this.#router.navigate(['/knots', knot, 'fields']));
  }
}
