import { z } from 'zod';
import { objectPages } from './pages.js';

const fieldPath = z.string().min(1).max(200);

/**
 * A list that each record of an object has (the lines of an order): its rows are records of an object of their own,
 * which are written by writing the record that has them.
 */
export const rowsSchema = z.strictObject({
  /** The object whose records have the list, and where it is in them. */
  of: z.string().min(1).max(200),
  list: fieldPath,
  /** What tells the rows of one record apart; of those that are alike in it the second is another one. */
  key: z.array(fieldPath).min(1).max(5),
  /** The fields under which a row says whose it is (the key of its record), and the how-manieth there, from 1. */
  parentField: fieldPath.default('parent'),
  positionField: fieldPath.default('position'),
  ...objectPages,
});
export type Rows = z.output<typeof rowsSchema>;

export const rowsObjects = { rows: z.record(z.string().min(1).max(200), rowsSchema).optional() };

/** Where the key of a row ends that says whose row it is. */
const endOfParent = '/';

/**
 * The key of a row: whose it is, the values that tell it apart, and the how-manieth of those that are alike.
 * @param values of the fields of its key, as text; '' for what is blank or not there
 * @param place from 1
 */
export function rowKey(parent: string, values: readonly string[], place: number): string {
  const own = values.map((value) => value.replaceAll(/[%&#]/g, encodeURIComponent)).join('&');
  return `${rowKeysOf(parent)}${own}${place === 1 ? '' : `#${place}`}`;
}

/** What the keys of all rows of a record begin with. */
export function rowKeysOf(parent: string): string {
  return parent.replaceAll(/[%/]/g, encodeURIComponent) + endOfParent;
}

/** Whether it is what the keys of all rows of a record begin with, and no key of one. */
export function endsOpen(key: string): boolean {
  return key.endsWith(endOfParent);
}

/** Whose row it is; `undefined` for what is no key of a row. */
export function parentOfRow(key: string): string | undefined {
  const end = key.indexOf(endOfParent);
  return end < 1 ? undefined : key.slice(0, end).replaceAll(/%(25|2F)/g, decodeURIComponent);
}

/** What is wrong with the lists of a system that are objects of their own. */
export function checkRows(
  {
    objects,
    rows = {},
  }: {
    readonly objects: Readonly<Record<string, unknown>>;
    readonly rows?: Readonly<Record<string, Rows>> | undefined;
  },
  context: z.RefinementCtx,
): void {
  const report = (path: readonly string[], message: string): void =>
    context.addIssue({ code: 'custom', path: ['rows', ...path], message });
  for (const [name, { of, parentField, positionField }] of Object.entries(rows)) {
    if (Object.hasOwn(objects, name)) report([name], 'there is an object of this name already');
    if (!Object.hasOwn(objects, of))
      report([name, 'of'], `there is no object “${of}” whose records could have the list`);
    if (parentField === positionField) report([name, 'positionField'], 'is the name of the field for whose row it is');
  }
}
