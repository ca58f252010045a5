import type { KnotDefinition } from '@anchor-knot/contracts';
import { usersOf } from '@anchor-knot/core';

export interface TableRow {
  readonly knot: string;
  readonly knotName: string;
  readonly id: string;
  readonly name: string;
  readonly usedBy: string;
  readonly shared: number;
  /** Of all members together. */
  readonly values: number;
  readonly isDraft: boolean;
  /** The first value that was sought; empty when the name was, or nothing. */
  readonly found: string;
}

/** The crosswalks of all knots, or those with the sought text in their name, their knot's name or a value. */
export function tablesOf(
  knots: readonly { readonly definition: KnotDefinition; readonly isDraft: boolean }[],
  sought: string,
): TableRow[] {
  const text = sought.trim().toLowerCase();
  return knots.flatMap(({ definition, isDraft }) =>
    Object.entries(definition.crosswalks).flatMap(([id, { name, rows }]): TableRow[] => {
      const inName = `${name} ${definition.name}`.toLowerCase().includes(text);
      const all = rows.flatMap(({ shared, values }) => [shared, ...Object.values(values).flat().map(String)]);
      const found = inName ? '' : (all.find((value) => value.toLowerCase().includes(text)) ?? '');
      if (!inName && found === '') return [];
      const usedBy = usersOf(definition, id).join(', ');
      return [
        {
          knot: definition.id,
          knotName: definition.name,
          id,
          name,
          usedBy,
          shared: rows.length,
          values: all.length - rows.length,
          isDraft,
          found,
        },
      ];
    }),
  );
}
