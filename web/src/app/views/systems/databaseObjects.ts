import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { type AbstractControl, FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { QueryPreview, SqlObject, System, Tables, TestSystem } from '@anchor-knot/contracts';
import { SystemsApi } from '../../api/systemsApi';
import { Asking } from '../../api/asking';
import { isFilled } from '../../fields/validators';
import { valueText } from '../../values/valueText';
import { count } from '../../words/sentences';
import { ProblemText } from '../problem';
import { tableParts } from '../../tables/rows';

type Table = Tables['tables'][number];

/** The objects of a database: tables to tick, and queries that stand in for one, previewed before they are added. */
@Component({
  selector: 'ak-database-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    ProblemText,
    MatButtonModule,
    MatCheckboxModule,
    MatFormFieldModule,
    MatInputModule,
    MatSelectModule,
    ReactiveFormsModule,
  ],
  templateUrl: './databaseObjects.html',
  styleUrl: './databaseObjects.scss',
})
export class DatabaseObjects {
  readonly request = input.required<TestSystem | undefined>();
  readonly objects = input<System['objects']>({});
  readonly changed = output<System['objects']>();
  readonly #api = inject(SystemsApi);
  protected readonly count = count;
  protected readonly text = valueText;
  protected readonly writing = signal(false);
  protected readonly query = new FormGroup({
    sql: new FormControl('', { nonNullable: true, validators: [isFilled] }),
    name: new FormControl('', {
      nonNullable: true,
      validators: [
        isFilled,
        ({ value }: AbstractControl<string>) => (Object.hasOwn(this.objects(), value.trim()) ? { taken: true } : null),
      ],
    }),
    key: new FormControl('', { nonNullable: true }),
    modifiedAt: new FormControl('', { nonNullable: true }),
  });
  protected readonly asking = new Asking();
  protected readonly tables = signal<readonly Table[] | undefined>(undefined);
  protected readonly previewed = signal<QueryPreview | undefined>(undefined);
  protected readonly previewColumns = computed(() => this.previewed()?.fields.map(({ path }) => path) ?? []);
  protected readonly shownRows = computed(() => this.previewed()?.rows.slice(0, 8) ?? []);
  protected readonly timed = computed(
    () => this.previewed()?.fields.filter(({ type }) => type === 'instant' || type === 'date') ?? [],
  );

  protected list(): void {
    const request = this.request();
    if (!request) return;
    this.asking.ask(this.#api.tables(request), ({ tables }) => this.tables.set(tables));
  }

  protected preview(): void {
    const request = this.request();
    const { sql } = this.query.controls;
    sql.markAsTouched();
    if (!request || sql.invalid) return;
    this.previewed.set(undefined);
    this.asking.ask(this.#api.previewQuery({ ...request, sql: sql.value }), (found) => {
      this.previewed.set(found);
      this.query.patchValue({ key: found.fields[0]?.path ?? '', modifiedAt: '' });
    });
  }

  protected isTaken(table: Table): boolean {
    return this.#nameOf(table) !== undefined;
  }

  protected toggle(table: Table): void {
    const taken = this.#nameOf(table);
    const { ...objects } = this.objects() as Record<string, SqlObject>;
    if (taken !== undefined) delete objects[taken];
    else {
      const name = Object.hasOwn(objects, table.table) ? `${table.schema}.${table.table}` : table.table;
      objects[name] = {
        source: {
          kind: 'table',
          schema: table.schema,
          table: table.table,
          ...(table.kind === 'view' ? { isView: true } : {}),
        },
        key: table.key ?? '',
        ...(table.times[0] ? { modifiedAt: table.times[0] } : {}),
        search: [],
        mayWrite: table.may.includes('create') && table.may.includes('update'),
        mayDelete: table.may.includes('delete'),
      };
    }
    this.changed.emit(objects);
  }

  protected addQuery(): void {
    this.query.markAllAsTouched();
    if (this.query.invalid) return;
    const { name, sql, key, modifiedAt } = this.query.getRawValue();
    const called = name.trim();
    const objects = this.objects() as Record<string, SqlObject>;
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
