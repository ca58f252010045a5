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
  templateUrl: './databaseObjects.html',
  styleUrl: './databaseObjects.scss',
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
  protected readonly timed = computed(
    () => this.previewed()?.fields.filter(({ type }) => type === 'instant' || type === 'date') ?? [],
  );

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
    if (called === '')
      return this.asking.problem.set({ code: 'no name', says: 'Say what the query’s object is called.' });
    if (called in objects)
      return this.asking.problem.set({ code: 'taken', says: `There is an object “${called}” already.` });
    this.asking.problem.set(undefined);
    this.changed.emit({
      ...objects,
      [called]: {
        source: { kind: 'query', sql: sql.trim() },
        key,
        ...(modifiedAt ? { modifiedAt } : {}),
        search: [],
        mayWrite: false,
        mayDelete: false,
      },
    });
  }

  #nameOf({ schema, table }: Table): string | undefined {
    return Object.entries(this.objects() as Record<string, SqlObject>).find(
      ([, { source }]) => source.kind === 'table' && source.schema === schema && source.table === table,
    )?.[0];
  }
}
