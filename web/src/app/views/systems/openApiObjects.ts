import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { HttpObject, OpenApiReading, Problem, System } from '@anchor-knot/contracts';
import { Api, problemOf } from '../../api/api';

/** The objects of a JSON interface, taken from its OpenAPI document: ticked ones go into the description, where what was guessed can be corrected. */
@Component({
  selector: 'ak-open-api-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  template: `
    <div class="from"><label>Take it from an OpenAPI 3 document<input type="file" accept=".json,.yaml,.yml,application/json,application/yaml" (change)="open($event)" /></label>
      <label class="wide">or from its address<input #from type="url" placeholder="https://crm.example.com/openapi.json" spellcheck="false" (keydown.enter)="fetch(from.value); $event.preventDefault()" /></label><button mat-stroked-button type="button" (click)="fetch(from.value)">Fetch it</button></div>
    @if (problem(); as one) { <div class="banner" role="alert"><strong>{{ one.says }}</strong><small>{{ one.advice }}</small></div> }
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
  styles: `.from { display: flex; gap: 12px; align-items: flex-end; flex-wrap: wrap; } .from .wide { flex: 1 1 260px; } input[type=url] { display: block; width: 100%; font: 13px/18px var(--values); color: var(--ink); background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 5px 7px; margin-top: 3px; min-height: 30px; } :host { display: block; margin-bottom: 12px; } label { font-size: 12.5px; color: var(--ink-2); } .tick { color: var(--ink); } td small { display: block; } input[type=file] { display: block; font: inherit; padding: 4px 0; } table { border: 1px solid var(--hair); margin-top: 8px; } .banner { margin: 8px 0; }`,
})
export class OpenApiObjects {
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  /** What the document says of the system itself. */
  readonly read = output<OpenApiReading>();
  readonly #api = inject(Api);
  protected readonly reading = signal<OpenApiReading | undefined>(undefined);
  protected readonly problem = signal<Problem | undefined>(undefined);

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
    this.problem.set(undefined);
    this.#api.readOpenApi(from).subscribe({
      next: (reading) => {
        this.reading.set(reading);
        this.read.emit(reading);
      },
      error: (error: unknown) => this.problem.set(problemOf(error)),
    });
  }

  protected toggle(name: string, object: HttpObject): void {
    const { ...objects } = this.objects() as Record<string, HttpObject>;
    if (name in objects) delete objects[name];
    else objects[name] = object;
    this.changed.emit(objects);
  }
}
