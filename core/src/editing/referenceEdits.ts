import { type Knot, type Mapping, recordKeyPath, referenceWays, type SharedField } from '../definition/index.js';
import type { ReferenceStep } from '../mapping/index.js';
import type { MemberId, ReferenceBy } from '../record/index.js';
import type { Edit } from './edit.js';
import { addField, changeField, newMapping } from './fieldEdits.js';
import { ruleFor } from './ruleEdits.js';

/** What has to be known of a knot to refer to its things. */
export type ReferenceTarget = Pick<Knot, 'id' | 'members' | 'keyRules'>;

/**
 * Makes a field refer to the things of a knot. Each system refers in the way that is nearest to it: by the key of its
 * own record there, else by a value; it can be changed.
 */
export function referTo(id: string, target: ReferenceTarget): Edit {
  return (definition) =>
    changeField(definition, id, (field) => {
      const mappings = Object.entries(field.mappings).map(([member, mapping]): [MemberId, Mapping] => [
        member,
        withReference(mapping, { kind: 'reference', by: nearestWay(definition, member, target) }),
      ]);
      return {
        ...withoutTerms(withoutOrigin(field)),
        type: 'reference',
        refersTo: target.id,
        rule: ruleFor('reference', field.rule) as SharedField['rule'],
        mappings: Object.fromEntries(mappings),
      };
    });
}

/**
 * Adds a field by which a thing refers to what the same record is in another knot, by the record's own key.
 * @param member whose record it is, here and in the other knot
 */
export function referToSameRecord(name: string, refersTo: string, member: { here: MemberId; there: MemberId }): Edit {
  const step: ReferenceStep = { kind: 'reference', by: { member: member.there } };
  return (definition) => {
    const longer = addField(name, 'reference')(definition);
    const added = longer.fields.at(-1) as SharedField;
    return changeField({ ...longer, titleField: definition.titleField }, added.id, (field) => ({
      ...field,
      refersTo,
      rule: ruleFor('reference', field.rule) as SharedField['rule'],
      mappings: { [member.here]: newMapping(recordKeyPath, 'from', [step]) },
    }));
  };
}

/** A mapping of a reference that has no way to refer yet is given the nearest one. */
export function refersIn(id: string, member: MemberId, target: ReferenceTarget): Edit {
  return (definition) =>
    changeField(definition, id, (field) => {
      const mapping = field.mappings[member];
      if (!mapping || mapping.steps.some(({ kind }) => kind === 'reference')) return field;
      const step = { kind: 'reference', by: nearestWay(definition, member, target) } as const;
      return { ...field, mappings: { ...field.mappings, [member]: withReference(mapping, step) } };
    });
}

/** A field that was a reference is one of another type. */
export function referNoMore(id: string, type: Exclude<SharedField['type'], 'reference'>): Edit {
  return (definition) =>
    changeField(definition, id, ({ refersTo: _, ...field }) => ({
      ...withoutTerms(field),
      type,
      rule: ruleFor(type, field.rule) as SharedField['rule'],
      mappings: Object.fromEntries(
        Object.entries(field.mappings).map(([member, mapping]) => [
          member,
          { ...mapping, steps: mapping.steps.filter(({ kind }) => kind !== 'reference') },
        ]),
      ),
    }));
}

/** The way in which a system most likely refers to the things of a knot. */
export function nearestWay(definition: Pick<Knot, 'members'>, member: MemberId, target: ReferenceTarget): ReferenceBy {
  const system = definition.members.find(({ id }) => id === member)?.system;
  const own = target.members.find((one) => one.system === system);
  const ways = referenceWays(target);
  const byValue = ways.find((way) => 'field' in way);
  return own ? { member: own.id } : (byValue ?? ways[0] ?? { member: '' });
}

/** A mapping with that reference as its last step. */
export function withReference(mapping: Mapping, step: ReferenceStep): Mapping {
  return { ...mapping, steps: [...mapping.steps.filter(({ kind }) => kind !== 'reference'), step] };
}

type OfOneKnot = 'levels' | 'archivedWith';

/** What is said of the things of one knot is said anew of those of another. */
function withoutTerms<Field extends Pick<SharedField, OfOneKnot>>({
  levels: _,
  archivedWith: __,
  ...field
}: Field): Omit<Field, OfOneKnot> {
  return field;
}

/** What refers to something is neither computed, nor a number of a series. */
function withoutOrigin({ formula: _, series: __, ...field }: SharedField): SharedField {
  return field;
}
