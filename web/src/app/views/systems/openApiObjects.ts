import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { HttpObject, OpenApiReading, System } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';

/** The objects of a JSON interface, taken from its OpenAPI document: ticked ones go into the description, where what was guessed can be corrected. */
@Component({
  selector: 'ak-open-api-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  template: `
    <div class="from"><label>Take it from an OpenAPI 3 document<input type="file" accept=".json,.yaml,.yml,application/json,application/yaml" (change)="open($event)" /></label>
      <label class="wide">or from its address<input #from type="url" placeholder="https://crm.example.com/openapi.json" spellcheck="false" (keydown.enter)="fetch(from.value); $event.preventDefault()" /></label><button mat-stroked-button type="button" [disabled]="asking.busy()" (click)="fetch(from.value)">Fetch it</button></div>
    @if (asking.problem(); as one) { <div class="banner" role="alert"><strong>{{ one.says }}</strong><small>{{ one.advice }}</small></div> }
    @if (reading(); as found) {
      @if (found.objects.length === 0) { <p class="small">No collection was found in it that can be listed and whose records can be read one by one.</p> } @else {
        <table class="plain">
          <thead><tr><th scope="col">Object</th><th scope="col">Listed at</th><th scope="col">Pages</th><th scope="col">We may</th><th scope="col">To be looked at</th></tr></thead>
          <tbody>@for (one of found.objects; track one.name) {<tr>
            <th scope="row"><label class="tick"><input type="checkbox" [checked]="one.name in objects()" (change)="toggle(one.name, one.object)" /> <span class="value">{{ one.name }}</span></label></th>
            <td class="value">{{ one.object.list.path }}</td><td>{{ one.object.list.paging.kind }}</td><td>read{{ one.object.create ? ', create' : '' }}{{ one.object.update ? ', update' : '' }}</td>
            <td>@for (doubt of one.doubts; track doubt) {<small class="waits">{{ doubt }}</small>} @empty {<span class="quiet">nothing</span>}</td>
          </tr>}</tbody>
        </table>
      }
    }
  `,
  styles: `.from { display: flex; gap: 12px; align-items: flex-end; flex-wrap: wrap; } .from .wide { flex: 1 1 260px; } :host { display: block; margin-bottom: 12px; } .tick { color: var(--ink); } td small { display: block; } input[type=file] { display: block; font: inherit; padding: 4px 0; } table { border: 1px solid var(--hair); margin-top: 8px; } .banner { margin: 8px 0; }`,
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
