import type { FieldPath } from '../record/index.js';
import type { Knot, Member, OutcomeFields } from './knot.js';
import type { Report } from './knotProblem.js';
import { outcomePaths } from './observed.js';

/** What is wrong with how outcomes are told and acknowledged. */
export function checkOutcomes(knot: Knot, report: Report): void {
  for (const member of knot.members) {
    const mapped = new Set(
      knot.fields.flatMap(({ mappings }) => (mappings[member.id] ? [mappings[member.id]?.field] : [])),
    );
    const told = new Set<FieldPath>();
    for (const outcome of member.outcomes ?? []) {
      const at = `members.${member.id}.outcomes.${outcome.of}`;
      if (outcome.of === member.id) report(at, 'a record is told of other members, not of its own');
      else if (!knot.members.some(({ id }) => id === outcome.of)) report(at, `there is no member “${outcome.of}”`);
      if ((member.outcomes ?? []).filter(({ of }) => of === outcome.of).length > 1)
        report(at, 'the same outcome is told twice: put its fields together');
      if (outcomePaths(outcome).length === 0) report(at, 'choose at least one field that it is told in');
      if (!member.may.update) report(at, 'records may not be updated there: allow it, or tell nothing');
      for (const [part, path] of outcomePaths(outcome)) {
        if (path.trim() === '') report(`${at}.${part}`, 'choose the field');
        else if (mapped.has(path) || path === member.carries)
          report(`${at}.${part}`, `“${path}” is a field of the knot already: what is told would look like an edit`);
        else if (told.has(path)) report(`${at}.${part}`, `“${path}” is told something else already`);
        told.add(path);
      }
      checkValues(outcome, `${at}.state`, report);
    }
    checkAcknowledgement(member, mapped, report);
  }
}

function checkValues({ state }: OutcomeFields, at: string, report: Report): void {
  if (!state) return;
  const { done, failed, pending, ready } = state;
  if (done.trim() === '' || failed.trim() === '') report(at, 'give the value for done, and the one for failed');
  const given = [done, failed, pending, ready].filter((value) => value !== undefined).map((value) => value.trim());
  if (new Set(given).size < given.length) report(at, 'two states have the same value: nobody could tell them apart');
}

function checkAcknowledgement(
  { id, acknowledges }: Member,
  mapped: ReadonlySet<FieldPath | undefined>,
  report: Report,
): void {
  if (!acknowledges) return;
  const at = `members.${id}.acknowledges`;
  if (acknowledges.field.trim() === '') report(at, 'choose the field that its system fills');
  else if (mapped.has(acknowledges.field))
    report(at, `“${acknowledges.field}” is a field of the knot: choose one that only its system fills`);
  if (!(acknowledges.lateAfter > 0)) report(at, 'say after how many minutes it is late');
}
