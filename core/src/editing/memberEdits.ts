import type { Member, OutcomeFields, SharedField } from '../definition/index.js';
import { type Edit, freeId } from './edit.js';

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
          const left = member.onlyFrom
            ? { ...member, onlyFrom: onlyFrom?.length === 0 ? undefined : onlyFrom }
            : member;
          return withOutcomes(left, (outcomes) => outcomes.filter(({ of }) => of !== id));
        }),
      fields: definition.fields.map((field) => ({
        ...field,
        mappings: without(field.mappings),
        rule: { ...field.rule, steps: stepsWithout(id, field.rule.steps) },
      })),
      // A check of that member alone would be one of nobody.
      checks: definition.checks.flatMap((check) => {
        const members = check.members?.filter((member) => member !== id);
        return members?.length === 0 ? [] : [{ ...check, ...(members ? { members } : {}) }];
      }),
      crosswalks: Object.fromEntries(
        Object.entries(definition.crosswalks).map(([table, crosswalk]) => [
          table,
          { ...crosswalk, rows: crosswalk.rows.map((row) => ({ ...row, values: without(row.values) })) },
        ]),
      ),
    };
  };
}

/** Records of a member are told what becomes of their things in another one. */
export function tellOutcome(id: string, of: string): Edit {
  const told: OutcomeFields = { of, state: { field: '', done: 'done', failed: 'failed' } };
  return changeOutcomes(id, (outcomes) => [...outcomes, told]);
}

export function changeOutcome(id: string, of: string, change: Partial<OutcomeFields>): Edit {
  return changeOutcomes(id, (outcomes) =>
    outcomes.map((outcome) => (outcome.of === of ? { ...outcome, ...change } : outcome)),
  );
}

export function dropOutcome(id: string, of: string): Edit {
  return changeOutcomes(id, (outcomes) => outcomes.filter((outcome) => outcome.of !== of));
}

type OutcomeChange = (outcomes: readonly OutcomeFields[]) => readonly OutcomeFields[];

function changeOutcomes(id: string, change: OutcomeChange): Edit {
  return (definition) => ({
    ...definition,
    members: definition.members.map((member) => (member.id === id ? withOutcomes(member, change) : member)),
  });
}

function withOutcomes({ outcomes, ...member }: Member, change: OutcomeChange): Member {
  const changed = change(outcomes ?? []);
  return changed.length === 0 ? member : { ...member, outcomes: changed };
}

/** An order of nobody is none: where it stood last, the rule asks. */
function stepsWithout(member: string, steps: SharedField['rule']['steps']): SharedField['rule']['steps'] {
  const left = steps.flatMap((step): SharedField['rule']['steps'] => {
    if (step.step !== 'order') return [step];
    const members = step.members.filter((other) => other !== member);
    return members.length > 0 ? [{ ...step, members }] : [];
  });
  const settles = left.at(-1)?.step === 'order' || left.at(-1)?.step === 'ask';
  return settles || left.length === steps.length ? left : [...left, { step: 'ask' }];
}

/** Moves a member's column by so many places. */
export function moveMember(id: string, by: number): Edit {
  return (definition) => {
    const members = [...definition.members];
    const from = members.findIndex((member) => member.id === id);
    const member = members[from];
    if (!member) return definition;
    const to = Math.max(0, Math.min(members.length - 1, from + by));
    members.splice(from, 1);
    members.splice(to, 0, member);
    return { ...definition, members };
  };
}
