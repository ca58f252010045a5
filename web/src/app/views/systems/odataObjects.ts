import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { EntitySets, ODataObject, System, TestSystem } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';

type EntitySet = EntitySets['sets'][number];

/** The entity sets of an OData service: ticked ones are its objects. */
@Component({
  selector: 'ak-odata-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  template: `
    <p><button mat-stroked-button type="button" [disabled]="!request() || asking.busy()" (click)="list()">List the entity sets</button></p>
    @if (asking.problem(); as one) { <div class="banner" role="alert"><strong>{{ one.says }}</strong><small>{{ one.advice }}</small></div> }
    @if (sets(); as found) {
      @if (found.length === 0) { <p class="small">The service declares no entity set.</p> } @else {
        <div class="list"><table class="plain">
          <thead><tr><th scope="col">Entity set</th><th scope="col">Key</th><th scope="col">Last change in</th><th scope="col">Found by</th><th scope="col">It may be</th></tr></thead>
          <tbody>@for (set of found; track set.name) {<tr>
            <th scope="row"><label><input type="checkbox" [checked]="taken(set) !== undefined" [disabled]="!set.key" (change)="toggle(set)" /> <span class="value">{{ set.name }}</span></label></th>
            <td><span class="value">{{ set.key ?? '' }}</span>@if (!set.key) {<small class="quiet">no single key</small>}</td>
            @if (taken(set); as one) {
              <td><select [attr.aria-label]="'Last change of ' + set.name" (change)="put(set, { modifiedAt: time.value || undefined })" #time><option value="" [selected]="!one.modifiedAt">nothing tells</option>@for (name of set.times; track name) {<option [selected]="name === one.modifiedAt">{{ name }}</option>}</select></td>
              <td><input [attr.aria-label]="set.name + ' is found by'" [value]="one.search.join(', ')" placeholder="its key only" spellcheck="false" (change)="findBy(set, by.value)" #by /></td>
              <td><label><input type="checkbox" [checked]="one.mayCreate" [disabled]="!set.insertable" (change)="put(set, { mayCreate: !one.mayCreate })" /> created</label> <label><input type="checkbox" [checked]="one.mayUpdate" [disabled]="!set.updatable" (change)="put(set, { mayUpdate: !one.mayUpdate })" /> updated</label>
                <label><input type="checkbox" [checked]="one.mayDelete" (change)="put(set, { mayDelete: !one.mayDelete })" /> deleted</label></td>
            } @else { <td><span class="value">{{ set.times[0] ?? '' }}</span></td><td></td><td class="quiet">{{ set.insertable ? 'created' : '' }}{{ set.insertable && set.updatable ? ', ' : '' }}{{ set.updatable ? 'updated' : '' }}{{ !set.insertable && !set.updatable ? 'read only' : '' }}</td> }
          </tr>}</tbody>
        </table></div>
      }
    }
  `,
  styles: `.list { max-height: 320px; overflow: auto; border: 1px solid var(--hair); margin-bottom: 10px; } label { color: var(--ink); font-size: 13px; white-space: nowrap; } td select { width: auto; max-width: 150px; min-height: 26px; margin: 0; padding: 2px 4px; } td input:not([type=checkbox]) { width: 130px; min-height: 26px; margin: 0; padding: 2px 6px; } td label { display: inline-block; } .banner { margin: 0 0 10px; }`,
})
export class ODataObjects {
  readonly request = input.required<TestSystem | undefined>();
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly #api = inject(Api);
  protected readonly asking = new Asking();
  protected readonly sets = signal<readonly EntitySet[] | undefined>(undefined);

  protected list(): void {
    const request = this.request();
    if (!request) return;
    this.asking.ask(this.#api.entitySets(request), ({ sets }) => this.sets.set(sets));
  }

  protected taken(set: EntitySet): ODataObject | undefined {
    return this.#entry(set)?.[1];
  }

  protected toggle(set: EntitySet): void {
    const taken = this.#entry(set);
    const { ...objects } = this.objects() as Record<string, ODataObject>;
    if (taken) delete objects[taken[0]];
    else
      objects[set.name] = {
        entitySet: set.name,
        key: set.key ?? '',
        ...(set.times[0] ? { modifiedAt: set.times[0] } : {}),
        search: [],
        mayCreate: set.insertable,
        mayUpdate: set.updatable,
        mayDelete: false,
      };
    this.changed.emit(objects);
  }

  /** @param text names of properties, separated by commas */
  protected findBy(set: EntitySet, text: string): void {
    const names = text
      .split(',')
      .map((name) => name.trim())
      .filter((name) => name !== '');
    const unknown = names.filter((name) => !set.properties.includes(name));
    this.asking.problem.set(
      unknown.length === 0
        ? undefined
        : { code: 'unknown property', says: `${set.name} has no property “${unknown.join('”, “')}”.`, advice: `It has ${set.properties.join(', ')}.` },
    );
    if (unknown.length === 0) this.put(set, { search: names });
  }

  protected put(set: EntitySet, change: Partial<Record<keyof ODataObject, unknown>>): void {
    const taken = this.#entry(set);
    if (!taken) return;
    const next = Object.fromEntries(Object.entries({ ...taken[1], ...change }).filter(([, value]) => value !== undefined)) as unknown as ODataObject;
    this.changed.emit({ ...(this.objects() as Record<string, ODataObject>), [taken[0]]: next });
  }

  #entry(set: EntitySet): [string, ODataObject] | undefined {
    return Object.entries(this.objects() as Record<string, ODataObject>).find(([, { entitySet }]) => entitySet === set.name);
  }
}
