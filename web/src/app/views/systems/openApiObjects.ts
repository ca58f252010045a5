import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import type { HttpObject, OpenApiReading, System } from '@anchor-knot/contracts';
import { SystemsApi } from '../../api/systemsApi';
import { Asking } from '../../api/asking';
import { FileButton } from '../../fields/fileButton';
import { isFilled } from '../../fields/validators';
import { ProblemText } from '../problem';
import { tableParts } from '../../tables/rows';

/**
 * The objects of a JSON interface, taken from its OpenAPI document: ticked ones go into the description, where what was
 * guessed can be corrected.
 */
@Component({
  selector: 'ak-open-api-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    ProblemText,
    MatButtonModule,
    MatCheckboxModule,
    MatFormFieldModule,
    MatInputModule,
    ReactiveFormsModule,
    FileButton,
  ],
  templateUrl: './openApiObjects.html',
  styleUrl: './openApiObjects.scss',
})
export class OpenApiObjects {
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  /** What the document says of the system itself. */
  readonly read = output<OpenApiReading>();
  readonly #api = inject(SystemsApi);
  protected readonly reading = signal<OpenApiReading | undefined>(undefined);
  protected readonly asking = new Asking();

  protected readonly address = new FormControl('', { nonNullable: true, validators: [isFilled] });

  protected async open(file: File): Promise<void> {
    this.#read({ document: await file.text() });
  }

  protected fetch(): void {
    this.address.markAsTouched();
    if (this.address.valid) this.#read({ address: this.address.value.trim() });
  }

  #read(from: { document: string } | { address: string }): void {
    this.reading.set(undefined);
    this.asking.ask(this.#api.readOpenApi(from), (reading) => {
      this.reading.set(reading);
      this.read.emit(reading);
    });
  }

  protected isTaken(name: string): boolean {
    return Object.hasOwn(this.objects(), name);
  }

  protected toggle(name: string, object: HttpObject): void {
    const { ...objects } = this.objects() as Record<string, HttpObject>;
    if (Object.hasOwn(objects, name)) delete objects[name];
    else objects[name] = object;
    this.changed.emit(objects);
  }
}
