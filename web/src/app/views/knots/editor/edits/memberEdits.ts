import { type Field, type Member, type Edit, freeId } from './edit';

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
