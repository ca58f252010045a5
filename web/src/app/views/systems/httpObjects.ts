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
  templateUrl: './httpObjects.html',
  styleUrl: './httpObjects.scss',
})
export class HttpObjects {
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly read = output<OpenApiReading>();
  protected readonly entries = computed(() =>
    Object.entries(this.objects() as Record<string, HttpObject>).map(([name, object]) => ({ name, object })),
  );
  protected readonly opened = signal('');
  protected readonly says = signal('');

  protected add(field: HTMLInputElement): void {
    const name = field.value.trim();
    const objects = this.objects() as Record<string, HttpObject>;
    this.says.set(
      name === ''
        ? 'Say what it is called.'
        : Object.hasOwn(objects, name)
          ? `There is an object “${name}” already.`
          : '',
    );
    if (this.says() !== '') return;
    const path = `/${encodeURIComponent(name)}`;
    this.opened.set(name);
    field.value = '';
    this.changed.emit({
      ...objects,
      [name]: {
        ...emptyHttpObject,
        list: { ...emptyHttpObject.list, path },
        read: { ...emptyHttpObject.read, path: `${path}/{key}` },
      },
    });
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
