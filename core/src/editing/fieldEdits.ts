import { type Knot, type Mapping, type Rule, type SharedField } from '../definition/index.js';
import type { Step } from '../mapping/index.js';
import { type Edit, freeId } from './edit.js';
import { withParts } from './identityEdits.js';
import { ruleFor } from './ruleEdits.js';

/** A mapping as it begins. */
export const newMapping = (field: string, direction: Mapping['direction'], steps: readonly Step[] = []): Mapping => ({
  field,
  direction,
  steps: [...steps],
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
});

export function changeField(definition: Knot, id: string, change: (field: SharedField) => SharedField): Knot {
  return { ...definition, fields: definition.fields.map((field) => (field.id === id ? change(field) : field)) };
}

export function setField(
  id: string,
  change: Partial<Pick<SharedField, 'name' | 'type' | 'rule' | 'owner' | 'note' | 'sensitive' | 'series'>>,
): Edit {
  return (definition) =>
    changeField(definition, id, (field) => withSeriesOfType(withRuleOfType({ ...field, ...change })));
}

/** Only texts come from a series. */
function withSeriesOfType({ series, ...field }: SharedField): SharedField {
  return series !== undefined && field.type === 'text' ? { ...field, series } : field;
}

/** Gives some fields the same rule; each keeps what fits its type. */
export function setRules(ids: readonly string[], rule: Rule): Edit {
  return (definition) => ({
    ...definition,
    fields: definition.fields.map((field) =>
      ids.includes(field.id) ? withRuleOfType({ ...field, rule: rule as SharedField['rule'] }) : field,
    ),
  });
}

const withRuleOfType = (field: SharedField): SharedField => ({
  ...field,
  rule: ruleFor(field.type, field.rule) as SharedField['rule'],
});

/** A shared field of a name; it is mapped to nothing yet. */
export function addField(name: string, type: SharedField['type'] = 'text'): Edit {
  return (definition) => {
    const id = freeId(
      name,
      definition.fields.map((field) => field.id),
    );
    const field: SharedField = { id, name, type, rule: { steps: [{ step: 'newest' }, { step: 'ask' }] }, mappings: {} };
    return { ...definition, fields: [...definition.fields, field], titleField: definition.titleField || id };
  };
}

/**
 * A formula makes a field computed: no member gives it any more, mappings only write it. Without one it is given by
 * members again.
 */
export function setFormula(id: string, formula: string | undefined): Edit {
  return (definition) =>
    changeField(definition, id, ({ formula: _, ...before }) => {
      if (formula === undefined) return before;
      const { series: __, ...field } = before;
      const mappings = Object.entries(field.mappings).flatMap(([member, mapping]) =>
        mapping.direction === 'from' ? [] : [[member, { ...mapping, direction: 'to' as const }] as const],
      );
      return { ...field, formula, mappings: Object.fromEntries(mappings) };
    });
}

/** Takes a shared field away, and what names it: key rules, evidence, the title. */
export function removeField(id: string): Edit {
  return (definition) => {
    const fields = definition.fields.filter((field) => field.id !== id);
    const keyRules = definition.keyRules
      .map((rule) => ({ ...rule, fields: rule.fields.filter(({ field }) => field !== id) }))
      .filter((rule) => rule.fields.length > 0);
    const { evidence } = definition;
    const parts = evidence?.fields
      .map((part) => ({ ...part, fields: part.fields.filter((field) => field !== id) }))
      .filter((part) => part.fields.length > 0);
    const isNamed = evidence?.fields.some((part) => part.fields.includes(id)) === true;
    const rest = { ...definition, ...(isNamed && parts ? { evidence: withParts(evidence, parts) } : {}) };
    return {
      ...rest,
      fields,
      keyRules,
      members: definition.members.map((member) =>
        member.inOrderOf === id ? { ...member, inOrderOf: undefined } : member,
      ),
      titleField: definition.titleField === id ? (fields[0]?.id ?? '') : definition.titleField,
    };
  };
}

/** Takes over all shared fields, as from a table. */
export function setFields(fields: readonly SharedField[]): Edit {
  return (definition) => ({ ...definition, fields: [...fields] });
}

/** A field of a member's object, to become a shared one. */
export interface FieldThere {
  readonly path: string;
  readonly type: string;
}

/**
 * Shares fields of a member that no shared field maps yet: each is given by that member. What is not wanted is removed.
 */
export function takeFields(member: string, fields: readonly FieldThere[]): Edit {
  return (definition) => {
    const mapped = new Set(definition.fields.flatMap(({ mappings }) => mappings[member]?.field ?? []));
    return fields
      .filter(({ path }) => !mapped.has(path))
      .reduce((now, { path, type }) => {
        const longer = addField(nameOfPath(path), sharedTypes[type] ?? 'text')(now);
        const added = longer.fields.at(-1) as SharedField;
        return changeField(longer, added.id, (field) => ({
          ...field,
          mappings: { [member]: newMapping(path, 'from') },
        }));
      }, definition);
  };
}

/** Types of systems' fields that are types here; others are text. */
const sharedTypes: Readonly<Record<string, SharedField['type']>> = {
  number: 'number',
  'yes/no': 'yes/no',
  date: 'date',
  instant: 'instant',
  list: 'list',
  email: 'email',
  phone: 'phone',
  choice: 'choice',
};

/** `contact.firstName` becomes *Contact first name*. */
export function nameOfPath(path: string): string {
  const words = path
    .replaceAll(/([a-z\d])([A-Z])/g, '$1 $2')
    .split(/[^\p{L}\p{N}]+/u)
    .filter((word) => word !== '')
    .map((word) => word.toLowerCase());
  const name = words.join(' ') || path;
  return name.charAt(0).toUpperCase() + name.slice(1);
}

/** Maps a shared field to a member's field; what was set for the mapping before stays. */
export function mapTo(field: string, member: string, path: string, mayWrite: boolean): Edit {
  return (definition) =>
    changeField(definition, field, (one) => {
      const before = one.mappings[member];
      const direction = one.formula !== undefined ? 'to' : mayWrite ? (before?.direction ?? 'both ways') : 'from';
      return {
        ...one,
        mappings: {
          ...one.mappings,
          [member]: before ? { ...before, field: path, direction } : newMapping(path, direction),
        },
      };
    });
}

export function setMapping(field: string, member: string, change: Partial<Mapping>): Edit {
  return (definition) =>
    changeField(definition, field, (one) => {
      const before = one.mappings[member];
      return before ? { ...one, mappings: { ...one.mappings, [member]: { ...before, ...change } } } : one;
    });
}

export function unmap(field: string, member: string): Edit {
  return (definition) =>
    changeField(definition, field, (one) => ({
      ...one,
      mappings: Object.fromEntries(Object.entries(one.mappings).filter(([id]) => id !== member)),
    }));
}
