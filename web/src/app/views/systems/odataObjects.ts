import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import type { EntitySets, ODataObject, System, TestSystem } from '@anchor-knot/contracts';
import { SystemsApi } from '../../api/systemsApi';
import { Asking } from '../../api/asking';
import { type Choice, ChoiceField, choicesOf } from '../../fields/choiceField';
import { TextField } from '../../fields/textField';
import { ProblemText } from '../problem';
import { namesIn } from './typedValues';
import { tableParts } from '../../tables/rows';

type EntitySet = EntitySets['sets'][number];

/** The entity sets of an OData service: ticked ones are its objects. */
@Component({
  selector: 'ak-odata-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ProblemText, MatButtonModule, MatCheckboxModule, ChoiceField, TextField],
  templateUrl: './odataObjects.html',
  styleUrl: './odataObjects.scss',
})
export class ODataObjects {
  readonly request = input.required<TestSystem | undefined>();
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly #api = inject(SystemsApi);
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

  protected timesOf(set: EntitySet): Choice[] {
    return [{ value: '', says: 'nothing tells' }, ...choicesOf(set.times)];
  }

  /** Why names of properties cannot be what records are found by. */
  protected lacks(set: EntitySet): (text: string) => string | undefined {
    return (text) => {
      const unknown = namesIn(text).filter((name) => !set.properties.includes(name));
      return unknown.length === 0
        ? undefined
        : `It has no property “${unknown.join('”, “')}”. It has ${set.properties.join(', ')}.`;
    };
  }

  /** @param text names of properties, separated by commas */
  protected findBy(set: EntitySet, text: string): void {
    this.put(set, { search: namesIn(text) });
  }

  protected put(set: EntitySet, change: Partial<Record<keyof ODataObject, unknown>>): void {
    const taken = this.#entry(set);
    if (!taken) return;
    const next = Object.fromEntries(
      Object.entries({ ...taken[1], ...change }).filter(([, value]) => value !== undefined),
    ) as unknown as ODataObject;
    this.changed.emit({ ...(this.objects() as Record<string, ODataObject>), [taken[0]]: next });
  }

  #entry(set: EntitySet): [string, ODataObject] | undefined {
    return Object.entries(this.objects() as Record<string, ODataObject>).find(
      ([, { entitySet }]) => entitySet === set.name,
    );
  }
}
