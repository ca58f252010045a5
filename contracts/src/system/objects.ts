import type { ObjectPages } from './pages.js';
import { parentOfRow, type Rows } from './rows.js';

/** What a system of any kind says of its objects. */
export interface WithObjects {
  readonly page?: string | undefined;
  readonly objects: Readonly<Record<string, ObjectPages>>;
  readonly rows?: Readonly<Record<string, Rows>> | undefined;
}

/** The lists of a system that are objects of their own, by their names. */
export function rowsIn(system: WithObjects | undefined): Readonly<Record<string, Rows>> {
  return system?.rows ?? {};
}

/** The list that an object stands for; `undefined` where it is described by itself. */
export function rowsAs(system: WithObjects | undefined, object: string): Rows | undefined {
  const rows = rowsIn(system);
  return Object.hasOwn(rows, object) ? rows[object] : undefined;
}

/** The names of all objects of a system: those that are described, and the lists in their records. */
export function objectNames(system: WithObjects): readonly string[] {
  return [...Object.keys(system.objects), ...Object.keys(rowsIn(system))];
}

export function hasObject(system: WithObjects | undefined, object: string): boolean {
  return system !== undefined && (Object.hasOwn(system.objects, object) || rowsAs(system, object) !== undefined);
}

/** The object that is called for another one: the one whose records have the list. */
export function calledObject(system: WithObjects | undefined, object: string): string {
  return rowsAs(system, object)?.of ?? object;
}

/**
 * @returns the pages of an object as whole addresses; `null` for what nobody said, or said below a page that is not. A
 *   row is seen on the page of its record, unless it has one of its own.
 */
export function pagesOf(
  system: WithObjects,
  object: string,
): { readonly recordPage: string | null; readonly listPage: string | null } {
  const rows = rowsAs(system, object);
  const own = rows ?? described(system, object);
  const ofParents = rows ? described(system, rows.of) : {};
  const whole = (page: string | undefined): string | null => {
    if (page === undefined || !page.startsWith('/')) return page ?? null;
    return system.page === undefined ? null : system.page.replace(/\/+$/, '') + page;
  };
  return {
    recordPage: whole(own.recordPage ?? ofParents.recordPage?.replace('{key}', '{parent}')),
    listPage: whole(own.listPage ?? ofParents.listPage),
  };
}

function described({ objects }: WithObjects, object: string): ObjectPages {
  return Object.hasOwn(objects, object) ? (objects[object] ?? {}) : {};
}

/** The address of a record's page; `null` where its system has no such pages. */
export function recordAddress(recordPage: string | null, key: string): string | null {
  return (
    recordPage
      ?.replace('{key}', encodeURIComponent(key))
      .replace('{parent}', encodeURIComponent(parentOfRow(key) ?? key)) ?? null
  );
}
