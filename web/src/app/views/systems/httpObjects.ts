import { ChangeDetectionStrategy, Component, computed, input, output, signal } from '@angular/core';
import { type AbstractControl, FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import type { HttpObject, OpenApiReading, System } from '@anchor-knot/contracts';
import { Fold } from '../../fields/fold';
import { isFilled } from '../../fields/validators';
import { HttpObjectForm } from './httpObjectForm';
import { emptyHttpObject } from './httpObjectDraft';
import { OpenApiObjects } from './openApiObjects';

/** The objects of a JSON interface: taken from its OpenAPI document or added by hand, and corrected one by one. */
@Component({
  selector: 'ak-http-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    MatButtonModule,
    MatFormFieldModule,
    MatInputModule,
    ReactiveFormsModule,
    Fold,
    HttpObjectForm,
    OpenApiObjects,
  ],
  templateUrl: './httpObjects.html',
  styleUrl: './httpObjects.scss',
})
export class HttpObjects {
  readonly objects = input<System['objects']>({});
  readonly changed = output<System['objects']>();
  readonly read = output<OpenApiReading>();
  protected readonly entries = computed(() =>
    Object.entries(this.objects() as Record<string, HttpObject>).map(([name, object]) => ({ name, object })),
  );
  protected readonly opened = signal('');
  protected readonly name = new FormControl('', {
    nonNullable: true,
    validators: [
      isFilled,
      ({ value }: AbstractControl<string>) => (Object.hasOwn(this.objects(), value.trim()) ? { taken: true } : null),
    ],
  });
  protected readonly words = ({ name, object }: { readonly name: string; readonly object: HttpObject }): string =>
    `${name} · ${object.list.path} · read${object.create ? ', create' : ''}${object.update ? ', update' : ''}`;

  protected add(): void {
    this.name.markAsTouched();
    this.name.updateValueAndValidity();
    if (this.name.invalid) return;
    const name = this.name.value.trim();
    const objects = this.objects() as Record<string, HttpObject>;
    const path = `/${encodeURIComponent(name)}`;
    this.opened.set(name);
    this.name.reset();
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
