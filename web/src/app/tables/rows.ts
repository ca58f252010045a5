import { CdkCellDef, CdkColumnDef, CdkRowDef, CdkTable } from '@angular/cdk/table';
import { Directive, ElementRef, inject, Input, input, type OnInit } from '@angular/core';
import { MatCellDef, MatRowDef, MatTableModule } from '@angular/material/table';

/** What a template of a row knows of it. */
interface RowContext<Row> {
  readonly $implicit: Row;
  readonly index: number;
  readonly first: boolean;
  readonly last: boolean;
}

/**
 * A cell of Material's table whose row has its type: `*akCell="let run of runs()"`. Material's own gives a row of any
 * type, in which nothing that is misspelt is found.
 */
@Directive({
  selector: '[akCell]',
  providers: [
    { provide: CdkCellDef, useExisting: RowCell },
    { provide: MatCellDef, useExisting: RowCell },
  ],
})
export class RowCell<Row> extends MatCellDef {
  /** The same rows that the table has. */
  readonly of = input.required<readonly Row[]>({ alias: 'akCellOf' });

  static ngTemplateContextGuard<Row>(_: RowCell<Row>, context: unknown): context is RowContext<Row> {
    return context !== undefined;
  }
}

/**
 * A row of Material's table that has its type: `*akRow="let run of runs(); columns: ['when', 'what']"`. Where rows are
 * of several shapes, the first whose `when` holds is taken; one without is for every row.
 */
@Directive({
  selector: '[akRow]',
  providers: [{ provide: CdkRowDef, useExisting: RowOf }],
})
export class RowOf<Row> extends MatRowDef<Row> {
  // The class that it extends listens to changes of a property of this name.
  @Input({ alias: 'akRowColumns', required: true }) override columns: Iterable<string> = [];
  @Input({ alias: 'akRowWhen' }) override when: (index: number, row: Row) => boolean = () => true;
  readonly of = input.required<readonly Row[]>({ alias: 'akRowOf' });

  static ngTemplateContextGuard<Row>(_: RowOf<Row>, context: unknown): context is RowContext<Row> {
    return context !== undefined;
  }
}

/**
 * Rows are the same ones as long as these properties are, named with blanks between them: what is read anew moves no
 * focus and closes nothing.
 */
@Directive({ selector: 'table[akBy]' })
export class RowsBy implements OnInit {
  readonly akBy = input.required<string>();
  readonly #table = inject<CdkTable<unknown>>(CdkTable);

  ngOnInit(): void {
    const names = this.akBy().split(' ');
    this.#table.trackBy = (_, row) => names.map((name) => String((row as Record<string, unknown>)[name])).join('\n');
  }
}

/** The cell that names its row. Material's own cell would take that from it, by its role. */
@Directive({ selector: 'th[akRowHeader]', host: { scope: 'row', class: 'mat-mdc-cell' } })
export class RowHeader {
  constructor() {
    const { cssClassFriendlyName } = inject(CdkColumnDef);
    inject<ElementRef<HTMLElement>>(ElementRef).nativeElement.classList.add(`mat-column-${cssClassFriendlyName}`);
  }
}

/** Everything that a table needs. */
export const tableParts = [MatTableModule, RowCell, RowHeader, RowOf, RowsBy] as const;
