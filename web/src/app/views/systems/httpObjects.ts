import { ChangeDetectionStrategy, Component, computed, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { HttpObject, OpenApiReading, System } from '@anchor-knot/contracts';
import { HttpObjectForm } from './httpObjectForm';
import { emptyHttpObject } from './httpObjectDraft';
import { OpenApiObjects } from './openApiObjects';

/** The objects of a JSON interface: taken from its OpenAPI document or added by hand, and corrected one by one. */
@Component({
  selector: 'ak-http-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, OpenApiObjects, HttpObjectForm],
  template: `
    <ak-open-api-objects [objects]="objects()" (changed)="changed.emit($event)" (read)="read.emit($event)" />
    @for (one of entries(); track one.name) {
      <details [open]="one.name === opened()">
        <summary><span class="value">{{ one.name }}</span> <small>{{ one.object.list.path }} · read{{ one.object.create ? ', create' : '' }}{{ one.object.update ? ', update' : '' }}</small></summary>
        <ak-http-object-form [object]="one.object" (changed)="put(one.name, $event)" />
        <button mat-button type="button" (click)="remove(one.name)">Take “{{ one.name }}” out</button>
      </details>
    }
    <div class="row"><label>Object, called<input #name maxlength="100" spellcheck="false" (keydown.enter)="add(name); $event.preventDefault()" /></label><button mat-stroked-button type="button" (click)="add(name)">Add it by hand</button>@if (says()) {<small class="wrong" role="status">{{ says() }}</small>}</div>
  `,
  styles: `
    details { border: 1px solid var(--hair); border-radius: 3px; background: var(--sheet); margin-bottom: 8px; padding: 0 10px; } details[open] { padding-bottom: 8px; } summary { padding: 7px 0; cursor: pointer; } summary small { margin-left: 8px; }
    .row { display: flex; gap: 10px; align-items: flex-end; margin: 4px 0 12px; flex-wrap: wrap; } .row input { width: auto; }
  `,
})
export class HttpObjects {
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly read = output<OpenApiReading>();
  protected readonly entries = computed(() => Object.entries(this.objects() as Record<string, HttpObject>).map(([name, object]) => ({ name, object })));
  protected readonly opened = signal('');
  protected readonly says = signal('');

  protected add(field: HTMLInputElement): void {
    const name = field.value.trim();
    const objects = this.objects() as Record<string, HttpObject>;
    this.says.set(name === '' ? 'Say what it is called.' : Object.hasOwn(objects, name) ? `There is an object “${name}” already.` : '');
    if (this.says() !== '') return;
    const path = `/${encodeURIComponent(name)}`;
    this.opened.set(name);
    field.value = '';
    this.changed.emit({ ...objects, [name]: { ...emptyHttpObject, list: { ...emptyHttpObject.list, path }, read: { ...emptyHttpObject.read, path: `${path}/{key}` } } });
  }

  protected put(name: string, object: HttpObject): void {
    this.opened.set(name);
    this.changed.emit({ ...(this.objects() as Record<string, HttpObject>), [name]: object });
  }

  protected remove(name: string): void {
    const { ...objects } = this.objects() as Record<string, HttpObject>;
    delete objects[name];
    this.changed.emit(objects);
  }
}
