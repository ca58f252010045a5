import { parse } from 'csv-parse/browser/esm/sync';
import { stringify } from 'csv-stringify/browser/esm/sync';
import { knotDraftSchema, type KnotDefinition, stepSchema } from '@anchor-knot/contracts';
import { newMapping, type Mapping, type SharedField } from '@anchor-knot/core';
import { bare } from './crosswalkCsv';

const own = ['field', 'name', 'type', 'formula'] as const;
const perMember = ['field', 'direction', 'steps'] as const;
const types: readonly string[] = knotDraftSchema.shape.fields.element.shape.type.options;
const directions: readonly string[] = ['from', 'to', 'both ways'];

/**
 * The shared fields as CSV (RFC 4180), to work on them in a spreadsheet: a row for each, and for each member the
 * columns
 * `member field`, `member direction` and `member steps` (JSON). A cell without a field is not mapped.
 */
export function fieldTableCsv({ fields, members }: KnotDefinition): string {
  const columns = [...own, ...members.flatMap(({ id }) => perMember.map((part) => `${id} ${part}`))];
  const rows = fields.map(({ id, name, type, formula, mappings }) => [
    id,
    name,
    type,
    formula ?? '',
    ...members.flatMap((member) => {
      const mapping = mappings[member.id];
      return mapping
        ? [mapping.field, mapping.direction, mapping.steps.length === 0 ? '' : JSON.stringify(mapping.steps)]
        : ['', '', ''];
    }),
  ]);
  return stringify(rows, { header: true, columns, record_delimiter: 'windows', escape_formulas: true });
}

export type ReadFieldTable =
  | { readonly ok: true; readonly fields: readonly SharedField[]; readonly changed: number; readonly added: number }
  | { readonly ok: false; readonly problems: readonly string[] };

/**
 * Reads such a table onto a definition: rows change the fields of their id or add them; fields without a row stay as
 * they
 * are. Every problem is told with its row; as long as there is one, nothing is taken.
 * @param known the fields that each member's object is known to have; a member that is missing takes any
 */
export function csvFieldTable(
  text: string,
  definition: KnotDefinition,
  known: Readonly<Record<string, ReadonlySet<string>>>,
): ReadFieldTable {
  let lines: Record<string, string>[];
  let columns: string[] = [];
  try {
    lines = parse(text, {
      bom: true,
      skip_empty_lines: true,
      columns: (header: string[]) => (columns = header.map((name) => name.trim())),
    });
  } catch (error) {
    return { ok: false, problems: [`This is no CSV: ${error instanceof Error ? error.message : String(error)}`] };
  }
  const members = definition.members.map(({ id }) => id);
  const possible = new Set<string>([...own, ...members.flatMap((id) => perMember.map((part) => `${id} ${part}`))]);
  const called = `a member’s are called “${members[0] ?? 'member'} field” and so on`;
  const problems = columns
    .filter((name) => !possible.has(name))
    .map((name) => `There is no column “${name}” here: ${called}.`);
  const noField = 'The column “field” is missing: it holds the id of each shared field.';
  if (!columns.includes('field')) problems.push(noField);
  if (problems.length > 0) return { ok: false, problems };

  const fields = new Map(definition.fields.map((field) => [field.id, field]));
  const seen = new Set<string>();
  let changed = 0;
  let added = 0;
  for (const [index, line] of lines.entries()) {
    const row = `Row ${index + 2}`;
    const cell = (name: string): string | undefined => (columns.includes(name) ? bare(line[name] ?? '') : undefined);
    const id = cell('field') ?? '';
    if (!/^[a-z][A-Za-z0-9]{0,39}$/.test(id))
      problems.push(`${row}: “${id}” is no id of a field: use a letter, then letters and digits.`);
    else if (seen.has(id)) problems.push(`${row}: “${id}” has a row already.`);
    seen.add(id);
    const before = fields.get(id);
    const name = cell('name') || before?.name || id;
    const type = cell('type') || before?.type || 'text';
    if (!types.includes(type)) problems.push(`${row}: “${type}” is no type; there are ${types.join(', ')}.`);
    const formula = cell('formula') ?? before?.formula ?? '';
    const mappings: Record<string, Mapping> = {};
    for (const member of members) {
      const mapping = readMapping(member, before?.mappings[member], cell, known[member], (says) =>
        problems.push(`${row}: ${says}`),
      );
      if (mapping) mappings[member] = mapping;
    }
    const { formula: _, ...rest } = before ?? {
      id,
      rule: { steps: [{ step: 'newest' }, { step: 'ask' }] } as SharedField['rule'],
    };
    const field = {
      ...rest,
      name,
      type: type as SharedField['type'],
      ...(formula === '' ? {} : { formula }),
      mappings,
    } as SharedField;
    if (!before) added += 1;
    else if (JSON.stringify(sorted(before)) !== JSON.stringify(sorted(field))) changed += 1;
    fields.set(id, field);
  }
  return problems.length > 0 ? { ok: false, problems } : { ok: true, fields: [...fields.values()], changed, added };
}

function readMapping(
  member: string,
  before: Mapping | undefined,
  cell: (name: string) => string | undefined,
  known: ReadonlySet<string> | undefined,
  report: (says: string) => void,
): Mapping | undefined {
  const path = cell(`${member} field`) ?? before?.field ?? '';
  if (path === '') return undefined;
  if (known && !known.has(path) && path !== before?.field) report(`${member} has no field “${path}”.`);
  const direction = cell(`${member} direction`) || before?.direction || 'from';
  const possible = directions.join(', ');
  if (!directions.includes(direction)) report(`“${direction}” is no direction; there are ${possible}.`);
  const text = cell(`${member} steps`);
  let steps = before?.steps ?? [];
  if (text !== undefined) {
    try {
      const read = stepSchema.array().safeParse(text === '' ? [] : JSON.parse(text));
      if (read.success) steps = read.data;
      else report(`the steps of ${member} are none: ${read.error.issues[0]?.message ?? ''}`);
    } catch {
      report(`the steps of ${member} are no JSON.`);
    }
  }
  return { ...(before ?? newMapping(path, 'from')), field: path, direction: direction as Mapping['direction'], steps };
}

/** The same with names in one order, so that two can be compared as text. */
function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted);
  if (typeof value !== 'object' || value === null) return value;
  return Object.fromEntries(
    Object.entries(value)
      .filter(([, item]) => item !== undefined)
      .toSorted(([a], [b]) => (a < b ? -1 : 1))
      .map(([name, item]) => [name, sorted(item)]),
  );
}
