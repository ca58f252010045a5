import type { KnotDefinition, Proposal, SaveDraft } from '@anchor-knot/contracts';
import { defaultThresholds, type Rule, ruleFor } from '@anchor-knot/core';

export type Field = KnotDefinition['fields'][number];
export type Member = KnotDefinition['members'][number];
export type Mapping = Field['mappings'][string];
export type Step = Mapping['steps'][number];
export type Check = KnotDefinition['checks'][number];
export type KeyRule = KnotDefinition['keyRules'][number];
export type Evidence = NonNullable<KnotDefinition['evidence']>;
export type EvidencePart = Evidence['fields'][number];
export type Crosswalk = KnotDefinition['crosswalks'][string];
export type TurnedDown = SaveDraft['turnedDown'][number];

/** Edits of a definition: each gives a new one and leaves the old one as it is, so that it can be undone. */
export type Edit = (definition: KnotDefinition) => KnotDefinition;

/** An identifier from words that none of `taken` is. */
export function freeId(words: string, taken: readonly string[]): string {
  const parts = words
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .replaceAll(/[^A-Za-z0-9]+/g, ' ')
    .trim()
    .split(' ');
  const camel = parts
    .map((part, index) => (index === 0 ? part.charAt(0).toLowerCase() : part.charAt(0).toUpperCase()) + part.slice(1))
    .join('');
  const start = (/^[a-z]/.test(camel) ? camel : `field${camel}`).slice(0, 36);
  let id = start;
  for (let number = 2; taken.includes(id); number += 1) id = `${start}${number}`;
  return id;
}

/** A mapping as it begins. */
export const newMapping = (field: string, direction: Mapping['direction'], steps: readonly Step[] = []): Mapping => ({
  field,
  direction,
  steps: [...steps],
  absentMeansBlank: false,
  blankAs: 'null',
  drift: 'put back',
});

function changeField(definition: KnotDefinition, id: string, change: (field: Field) => Field): KnotDefinition {
  return { ...definition, fields: definition.fields.map((field) => (field.id === id ? change(field) : field)) };
}

export function setField(id: string, change: Partial<Pick<Field, 'name' | 'type' | 'rule' | 'owner' | 'note'>>): Edit {
  return (definition) => changeField(definition, id, (field) => withRuleOfType({ ...field, ...change }));
}

/** Gives some fields the same rule; each keeps what fits its type. */
export function setRules(ids: readonly string[], rule: Rule): Edit {
  return (definition) => ({
    ...definition,
    fields: definition.fields.map((field) =>
      ids.includes(field.id) ? withRuleOfType({ ...field, rule: rule as Field['rule'] }) : field,
    ),
  });
}

const withRuleOfType = (field: Field): Field => ({ ...field, rule: ruleFor(field.type, field.rule) as Field['rule'] });

/** What a knot is, apart from its parts. */
export type KnotSettings = Pick<
  KnotDefinition,
  'name' | 'thing' | 'description' | 'owner' | 'labels' | 'titleField' | 'start'
>;

/** What is empty is left out. */
export function setKnot(change: Partial<KnotSettings>): Edit {
  return (definition) => {
    const changed = { ...definition, ...change };
    const isEmpty = (value: unknown): boolean => value === '' || (Array.isArray(value) && value.length === 0);
    const optional = ['description', 'owner', 'labels'];
    return Object.fromEntries(
      Object.entries(changed).filter(([name, value]) => !optional.includes(name) || !isEmpty(value)),
    ) as KnotDefinition;
  };
}

/** A shared field of a name; it is mapped to nothing yet. */
export function addField(name: string, type: Field['type'] = 'text'): Edit {
  return (definition) => {
    const id = freeId(
      name,
      definition.fields.map((field) => field.id),
    );
    const field: Field = { id, name, type, rule: { steps: [{ step: 'newest' }, { step: 'ask' }] }, mappings: {} };
    return { ...definition, fields: [...definition.fields, field], titleField: definition.titleField || id };
  };
}

/**
 * A formula makes a field computed: no member gives it any more, mappings only write it. Without one it is given by
 * members again.
 */
export function setFormula(id: string, formula: string | undefined): Edit {
  return (definition) =>
    changeField(definition, id, ({ formula: _, ...field }) => {
      if (formula === undefined) return field;
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
      titleField: definition.titleField === id ? (fields[0]?.id ?? '') : definition.titleField,
    };
  };
}

/** Takes over all shared fields, as from a table. */
export function setFields(fields: readonly Field[]): Edit {
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
        const added = longer.fields.at(-1) as Field;
        return changeField(longer, added.id, (field) => ({
          ...field,
          mappings: { [member]: newMapping(path, 'from') },
        }));
      }, definition);
  };
}

/** Types of systems' fields that are types here; others are text. */
const sharedTypes: Readonly<Record<string, Field['type']>> = {
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

/** The same knot over other objects: what is said of its members stays, and so do the fields that are mapped. */
export function withObjects(
  definition: KnotDefinition,
  objects: Readonly<Record<string, { readonly system: string; readonly object: string }>>,
): KnotDefinition {
  return { ...definition, members: definition.members.map((member) => ({ ...member, ...objects[member.id] })) };
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

export function setMember(id: string, change: Partial<Member>): Edit {
  return (definition) => ({
    ...definition,
    members: definition.members.map((member) => (member.id === id ? { ...member, ...change } : member)),
  });
}

export function addMember(member: Omit<Member, 'id'>, systemName: string): Edit {
  return (definition) => {
    const id = freeId(
      systemName.split(/\s+/)[0] ?? systemName,
      definition.members.map((one) => one.id),
    );
    return { ...definition, members: [...definition.members, { ...member, id }] };
  };
}

/** Takes a member out, and what names it: its mappings, its part of rules, checks and crosswalks. */
export function removeMember(id: string): Edit {
  return (definition) => {
    const without = <T>(record: Readonly<Record<string, T>>): Record<string, T> =>
      Object.fromEntries(Object.entries(record).filter(([member]) => member !== id));
    return {
      ...definition,
      members: definition.members
        .filter((member) => member.id !== id)
        .map((member) => {
          const onlyFrom = member.onlyFrom?.filter((other) => other !== id);
          return member.onlyFrom ? { ...member, onlyFrom: onlyFrom?.length === 0 ? undefined : onlyFrom } : member;
        }),
      fields: definition.fields.map((field) => ({
        ...field,
        mappings: without(field.mappings),
        rule: {
          ...field.rule,
          steps: field.rule.steps.flatMap((step): Field['rule']['steps'] => {
            if (step.step !== 'order') return [step];
            const members = step.members.filter((member) => member !== id);
            return members.length > 0 ? [{ ...step, members }] : [{ step: 'ask' }];
          }),
        },
      })),
      checks: definition.checks.map((check) => ({
        ...check,
        ...(check.members ? { members: check.members.filter((member) => member !== id) } : {}),
      })),
      crosswalks: Object.fromEntries(
        Object.entries(definition.crosswalks).map(([table, crosswalk]) => [
          table,
          { ...crosswalk, rows: crosswalk.rows.map((row) => ({ ...row, values: without(row.values) })) },
        ]),
      ),
    };
  };
}

/** Moves a member's column by so many places. */
export function moveMember(id: string, by: number): Edit {
  return (definition) => {
    const members = [...definition.members];
    const from = members.findIndex((member) => member.id === id);
    const to = Math.max(0, Math.min(members.length - 1, from + by));
    const [member] = members.splice(from, 1);
    if (!member) return definition;
    members.splice(to, 0, member);
    return { ...definition, members };
  };
}

export function setKeyRules(keyRules: readonly KeyRule[]): Edit {
  return (definition) => ({ ...definition, keyRules: [...keyRules] });
}

/** What was learned belongs to what was compared: other evidence has to be learned anew. */
function withParts(evidence: Evidence | undefined, fields: readonly EvidencePart[]): Evidence {
  return { thresholds: evidence?.thresholds ?? defaultThresholds, fields: [...fields] };
}

/** Sets what is weighed where no key ties a record; nothing, when there is no part. */
export function setEvidence(fields: readonly EvidencePart[]): Edit {
  return ({ evidence, ...definition }) =>
    fields.length === 0 ? definition : { ...definition, evidence: withParts(evidence, fields) };
}

/** A part's name changes nothing that was learned. */
export function nameEvidence(index: number, name: string): Edit {
  return (definition) =>
    definition.evidence
      ? {
          ...definition,
          evidence: {
            ...definition.evidence,
            fields: definition.evidence.fields.map((part, at) => (at === index ? { ...part, name } : part)),
          },
        }
      : definition;
}

export function setThresholds(thresholds: Evidence['thresholds']): Edit {
  return (definition) =>
    definition.evidence ? { ...definition, evidence: { ...definition.evidence, thresholds } } : definition;
}

/** Takes weights over that were learned from the data. */
export function setWeights(weights: NonNullable<Evidence['weights']>): Edit {
  return (definition) =>
    definition.evidence ? { ...definition, evidence: { ...definition.evidence, weights } } : definition;
}

export function setChecks(checks: readonly Check[]): Edit {
  return (definition) => ({ ...definition, checks: [...checks] });
}

export function setCrosswalk(id: string, crosswalk: Crosswalk | undefined): Edit {
  return (definition) => ({
    ...definition,
    crosswalks: crosswalk
      ? { ...definition.crosswalks, [id]: crosswalk }
      : Object.fromEntries(Object.entries(definition.crosswalks).filter(([table]) => table !== id)),
  });
}

/** The names of the shared fields that a crosswalk translates. */
export function usersOf({ fields }: KnotDefinition, table: string): string[] {
  return fields
    .filter(({ mappings }) =>
      Object.values(mappings).some(({ steps }) =>
        steps.some((step) => step.kind === 'crosswalk' && step.table === table),
      ),
    )
    .map(({ name }) => name);
}

/**
 * The proposal without the cells that a person turned down: as few are left out as break all pairs that were refused.
 */
function withoutRefused(proposal: Proposal, definition: KnotDefinition, refused: ReadonlySet<string>): Proposal {
  let left = proposal;
  for (;;) {
    const counted = left.cells.map(({ member }) => ({
      member,
      pairs: pairsOf(left, member, definition).filter((pair) => refused.has(pairName(pair))).length,
    }));
    const [worst] = counted.toSorted((a, b) => b.pairs - a.pairs);
    if (!worst || worst.pairs === 0) return left;
    left = { ...left, cells: left.cells.filter(({ member }) => member !== worst.member) };
  }
}

const pairName = ({ member, field, with: other }: TurnedDown): string => JSON.stringify([member, field, other]);

/**
 * What is still to be proposed: cells whose place and field are free, and that nobody turned down; new shared fields
 * with two cells or more.
 */
export function openProposals(
  all: readonly Proposal[],
  definition: KnotDefinition,
  turnedDown: readonly TurnedDown[] = [],
): Proposal[] {
  const refused = new Set(turnedDown.map(pairName));
  const proposals = all.map((proposal) => withoutRefused(proposal, definition, refused));
  const taken = new Set(
    definition.fields.flatMap(({ mappings }) =>
      Object.entries(mappings).map(([member, { field }]) => `${member} ${field}`),
    ),
  );
  const members = new Set(definition.members.map(({ id }) => id));
  return proposals.flatMap((proposal) => {
    const known = definition.fields.find(({ id }) => id === proposal.id);
    if (!known && !proposal.isNew) return [];
    const cells = proposal.cells.filter(
      (cell) => members.has(cell.member) && !taken.has(`${cell.member} ${cell.field}`) && !known?.mappings[cell.member],
    );
    return cells.length >= (known ? 1 : 2) ? [{ ...proposal, isNew: !known, cells }] : [];
  });
}

/**
 * Takes proposals into the definition. The first that tells records apart becomes a key rule where there is none, the
 * first text the title.
 */
export function accept(proposals: readonly Proposal[]): Edit {
  return (definition) => {
    let changed = definition;
    for (const proposal of proposals) {
      if (!changed.fields.some(({ id }) => id === proposal.id)) {
        const field: Field = {
          id: proposal.id,
          name: proposal.name,
          type: proposal.type as Field['type'],
          rule: { steps: [{ step: 'newest' }, { step: 'ask' }] },
          mappings: {},
        };
        changed = { ...changed, fields: [...changed.fields, field] };
      }
      const mappings = Object.fromEntries(
        proposal.cells.map(({ member, field, direction, steps }) => [member, newMapping(field, direction, steps)]),
      );
      changed = changeField(changed, proposal.id, (field) => ({
        ...field,
        mappings: { ...mappings, ...field.mappings },
      }));
      if (proposal.crosswalk && !changed.crosswalks[proposal.id])
        changed = { ...changed, crosswalks: { ...changed.crosswalks, [proposal.id]: proposal.crosswalk } };
    }
    const ranked = proposals
      .filter(({ isKey, id }) => isKey && changed.fields.some((field) => field.id === id))
      .toSorted((a, b) => Number(b.type === 'email') - Number(a.type === 'email'));
    const [key] = ranked;
    if (changed.keyRules.length === 0 && key)
      changed = {
        ...changed,
        keyRules: [{ name: key.name, fields: [{ field: key.id, normalise: key.type === 'email' ? 'email' : 'text' }] }],
      };
    if (changed.titleField === '')
      changed = {
        ...changed,
        titleField:
          (changed.fields.find(({ id, type }) => type === 'text' && id !== 'id') ?? changed.fields[0])?.id ?? '',
      };
    return changed;
  };
}

/** What is to be remembered of a proposed cell that a person does not want: the pairs that it would have made. */
export function pairsOf(proposal: Proposal, member: string, definition: KnotDefinition): TurnedDown[] {
  const cell = proposal.cells.find((one) => one.member === member);
  if (!cell) return [];
  const order = definition.members.map(({ id }) => id);
  const known = definition.fields.find(({ id }) => id === proposal.id);
  const others = [
    ...proposal.cells.filter((one) => one.member !== member).map((one) => ({ member: one.member, field: one.field })),
    ...Object.entries(known?.mappings ?? {}).map(([id, { field }]) => ({ member: id, field })),
  ];
  return others.map((other) =>
    order.indexOf(other.member) < order.indexOf(member)
      ? { member, field: cell.field, with: other.field }
      : { member: other.member, field: other.field, with: cell.field },
  );
}
