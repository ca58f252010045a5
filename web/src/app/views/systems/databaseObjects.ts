import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { QueryPreview, SqlObject, System, Tables, TestSystem } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { valueText } from '../../values/valueText';
import { count } from '../../words/sentences';

type Table = Tables['tables'][number];

/** The objects of a database: tables to tick, and queries that stand in for one, previewed before they are added. */
@Component({
  selector: 'ak-database-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  template: `
    <p><button mat-stroked-button type="button" [disabled]="!request() || asking.busy()" (click)="list()">List the tables</button> <button mat-button type="button" [disabled]="!request()" (click)="writing.set(!writing())">{{ writing() ? 'Close the query' : 'Write a query' }}</button></p>
    @if (asking.problem(); as one) { <div class="banner" role="alert"><strong>{{ one.says }}</strong><small>{{ one.advice }}</small></div> }
    @if (tables(); as found) {
      @if (found.length === 0) { <p class="small">This role can see no table. Give it the right to read there.</p> } @else {
        <div class="list"><table class="plain">
          <thead><tr><th scope="col">Table</th><th scope="col" class="number">Rows, about</th><th scope="col">Key</th><th scope="col">Last change in</th><th scope="col">The role may</th></tr></thead>
          <tbody>@for (table of found; track table.schema + table.table) {<tr>
            <th scope="row"><label><input type="checkbox" [checked]="isTaken(table)" [disabled]="!table.may.includes('read') || !table.key" (change)="toggle(table)" /> <span class="value">{{ table.schema === 'public' ? '' : table.schema + '.' }}{{ table.table }}</span></label></th>
            <td class="number">{{ table.rows < 0 ? '—' : count(table.rows) }}</td><td><span class="value">{{ table.key ?? '' }}</span>@if (!table.key) {<small class="quiet">no single key: write a query</small>}</td><td><span class="value">{{ table.times[0] ?? '' }}</span></td><td>{{ table.may.join(', ') || 'nothing' }}</td>
          </tr>}</tbody>
        </table></div>
      }
    }
    @if (writing()) {
      <div class="query">
        <label>Query<textarea #sql rows="5" spellcheck="false" placeholder="select … from … join … group by …"></textarea></label>
        <p><button mat-stroked-button type="button" [disabled]="asking.busy()" (click)="preview(sql.value)">Preview</button></p>
        @if (previewed(); as found) {
          <div class="list"><table class="plain"><thead><tr>@for (field of found.fields; track field.path) {<th scope="col"><span class="value">{{ field.path }}</span><small>{{ field.type }}</small></th>}</tr></thead>
            <tbody>@for (row of found.rows.slice(0, 8); track $index) {<tr>@for (field of found.fields; track field.path) {<td class="value">{{ text(row[field.path]) }}</td>}</tr>} @empty {<tr><td class="quiet">The query gives no rows.</td></tr>}</tbody></table></div>
          <div class="row"><label>Called<input #name maxlength="100" /></label><label>Key<select #key>@for (field of found.fields; track field.path) {<option>{{ field.path }}</option>}</select></label><label>Last change in<select #time><option value="">nothing tells</option>@for (field of timed(); track field.path) {<option>{{ field.path }}</option>}</select></label>
            <button mat-flat-button type="button" (click)="addQuery(name.value, sql.value, key.value, time.value)">Add it</button></div>
        }
      </div>
    }
  `,
  styles: `
    .list { max-height: 260px; overflow: auto; border: 1px solid var(--hair); margin-bottom: 10px; } th small { display: block; } .row { display: flex; gap: 12px; align-items: flex-end; flex-wrap: wrap; margin-bottom: 10px; } .banner { margin: 0 0 10px; }
    .row label { flex: 1 1 150px; } th label { color: var(--ink); font-size: 13px; }
  `,
})
export class DatabaseObjects {
  readonly request = input.required<TestSystem | undefined>();
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly #api = inject(Api);
  protected readonly count = count;
  protected readonly text = valueText;
  protected readonly writing = signal(false);
  protected readonly asking = new Asking();
  protected readonly tables = signal<readonly Table[] | undefined>(undefined);
  protected readonly previewed = signal<QueryPreview | undefined>(undefined);
  protected readonly timed = computed(() => this.previewed()?.fields.filter(({ type }) => type === 'instant' || type === 'date') ?? []);

  protected list(): void {
    const request = this.request();
    if (!request) return;
    this.asking.ask(this.#api.tables(request), ({ tables }) => this.tables.set(tables));
  }

  protected preview(sql: string): void {
    const request = this.request();
    if (!request || sql.trim() === '') return;
    this.previewed.set(undefined);
    this.asking.ask(this.#api.previewQuery({ ...request, sql }), (found) => this.previewed.set(found));
  }

  protected isTaken(table: Table): boolean {
    return this.#nameOf(table) !== undefined;
  }

  protected toggle(table: Table): void {
    const taken = this.#nameOf(table);
    const { ...objects } = this.objects() as Record<string, SqlObject>;
    if (taken !== undefined) delete objects[taken];
    else {
      const name = table.table in objects ? `${table.schema}.${table.table}` : table.table;
      objects[name] = {
        source: { kind: 'table', schema: table.schema, table: table.table },
        key: table.key ?? '',
        ...(table.times[0] ? { modifiedAt: table.times[0] } : {}),
        search: [],
        mayWrite: table.may.includes('create') && table.may.includes('update'),
        mayDelete: table.may.includes('delete'),
      };
    }
    this.changed.emit(objects);
  }

  protected addQuery(name: string, sql: string, key: string, modifiedAt: string): void {
    const called = name.trim();
    const objects = this.objects() as Record<string, SqlObject>;
    if (called === '') return this.asking.problem.set({ code: 'no name', says: 'Say what the query’s object is called.' });
    if (called in objects) return this.asking.problem.set({ code: 'taken', says: `There is an object “${called}” already.` });
    this.asking.problem.set(undefined);
    this.changed.emit({
      ...objects,
      [called]: { source: { kind: 'query', sql: sql.trim() }, key, ...(modifiedAt ? { modifiedAt } : {}), search: [], mayWrite: false, mayDelete: false },
    });
  }

  #nameOf({ schema, table }: Table): string | undefined {
    return Object.entries(this.objects() as Record<string, SqlObject>).find(([, { source }]) => source.kind === 'table' && source.schema === schema && source.table === table)?.[0];
  }
}
