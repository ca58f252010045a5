import type { Forecast, MemberSummary } from '@anchor-knot/contracts';
import { valueText } from '../../values/valueText';
import { plural } from '../../words/sentences';

type Operation = Forecast['anchors'][number]['operations'][number];

const shownChanges = 3;

/** What the next run would do with each anchor, in sentences. */
export function forecastWords({ anchors }: Forecast, members: readonly MemberSummary[], thing: string): string[] {
  const nameOf = (id: string): string => members.find((member) => member.id === id)?.systemName ?? id;
  const lines = anchors.flatMap(({ title, records, keptOut, operations, held }, index): string[] => {
    const keys = records.map(({ key }) => key).join(' and ');
    const of =
      index > 0
        ? `${keys} would be a ${thing} of ${records.length === 1 ? 'its' : 'their'} own, “${title}”`
        : `“${title}” would have ${plural(records.length, 'record')}`;
    if (keptOut)
      return [
        `${keys} would be kept out: nothing may start in ${records.map(({ member }) => nameOf(member)).join(' or ')}.`,
      ];
    const does = operations.map((operation) => operationWords(operation, nameOf));
    if (held.length > 0) does.push(`a person would have to settle ${held.join(', ')}`);
    return [`${of}: ${does.length === 0 ? 'nothing would be written' : does.join('; ')}.`];
  });
  return [...lines, 'Values stay where they were written before.'];
}

function operationWords({ member, kind, key, changes }: Operation, nameOf: (id: string) => string): string {
  if (kind === 'create') return `a record would be created in ${nameOf(member)}`;
  if (kind === 'write back') return `record ${key ?? ''} would be told in ${nameOf(member)}`;
  if (kind !== 'update')
    return `record ${key ?? ''} would be ${kind === 'archive' ? 'archived' : 'deleted'} in ${nameOf(member)}`;
  const shown = changes
    .slice(0, shownChanges)
    .map(({ field, before, after }) => `${field} “${valueText(before)}” → “${valueText(after)}”`);
  const more = changes.length - shown.length;
  const rest = more > 0 ? ` and ${plural(more, 'more value')}` : '';
  return `in ${nameOf(member)} ${shown.join(', ')}${rest} would be written`;
}
