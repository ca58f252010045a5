/** What the OData face of the ERP consists of, and how it refuses. */

/** The entity sets and the tables behind them. */
export const sets = {
  Debtors: { type: 'Debtor', table: 'debtor', key: 'debtor_no', insert: true, update: true },
  SalesDocuments: { type: 'SalesDocument', table: 'sales_document', key: 'doc_no', insert: false, update: true },
  SalesLines: { type: 'SalesLine', table: 'sales_line', key: 'line_id', insert: false, update: false },
  Articles: { type: 'Article', table: 'article', key: 'article_no', insert: true, update: true },
  Staff: { type: 'StaffMember', table: 'staff', key: 'staff_no', insert: false, update: false },
} as const;
export type SetName = keyof typeof sets;

export interface Column {
  readonly column: string;
  readonly property: string;
  readonly type: string;
  readonly required: boolean;
  readonly generated: boolean;
  readonly longest: number | null;
  readonly choices: string | null;
  readonly refers: string | null;
}

export class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
  ) {
    super(message);
  }
}

/** `debtor_no` is `DebtorNo` to the outside. */
export function propertyName(column: string): string {
  return column
    .split('_')
    .map((part) => part.charAt(0).toUpperCase() + part.slice(1))
    .join('');
}
