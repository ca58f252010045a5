import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { HttpObject, OpenApiReading, System } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';

/**
 * The objects of a JSON interface, taken from its OpenAPI document: ticked ones go into the description, where what was
 * guessed can be corrected.
 */
@Component({
  selector: 'ak-open-api-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  templateUrl: './openApiObjects.html',
  styleUrl: './openApiObjects.scss',
})
export class OpenApiObjects {
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  /** What the document says of the system itself. */
  readonly read = output<OpenApiReading>();
  readonly #api = inject(Api);
  protected readonly reading = signal<OpenApiReading | undefined>(undefined);
  protected readonly asking = new Asking();

  protected async open(event: Event): Promise<void> {
    const [file] = (event.target as HTMLInputElement).files ?? [];
    if (!file) return;
    this.#read({ document: await file.text() });
  }

  protected fetch(address: string): void {
    if (address.trim() !== '') this.#read({ address: address.trim() });
  }

  #read(from: { document: string } | { address: string }): void {
    this.reading.set(undefined);
    this.asking.ask(this.#api.readOpenApi(from), (reading) => {
      this.reading.set(reading);
      this.read.emit(reading);
    });
  }

  protected toggle(name: string, object: HttpObject): void {
    const { ...objects } = this.objects() as Record<string, HttpObject>;
    if (name in objects) delete objects[name];
    else objects[name] = object;
    this.changed.emit(objects);
  }
}
