import type { AnchorView, JournalEntry } from '@anchor-knot/contracts';
import { valueText } from '../../values/valueText';
import { causeWords, plural } from '../../words/sentences';

/** One line of what happened to a thing. */
export interface Reason {
  readonly title: string;
  readonly text: string;
  readonly at: string;
  readonly run: string | null;
}

/** The journal as reasons: what one run wrote of one field into several systems is one line. */
export function reasonsOf({ journal, fields, members }: AnchorView): Reason[] {
  const nameOf = new Map(fields.map(({ id, name }) => [id, name]));
  const groups = new Map<string, JournalEntry[]>();
  for (const entry of journal) {
    const group = groups.get(groupOf(entry)) ?? [];
    group.push(entry);
    groups.set(groupOf(entry), group);
  }
  return [...groups.values()].map((group): Reason => {
    const [entry] = group as [JournalEntry];
    return { ...wordsOf(entry, group, nameOf, members), at: entry.at, run: entry.run };
  });
}

function groupOf(entry: JournalEntry): string {
  switch (entry.kind) {
    case 'create':
      return `${entry.run}/create/${entry.member}`;
    case 'update':
    case 'lost':
    case 'chosen':
      return `${entry.run}/${entry.kind}/${entry.field}/${JSON.stringify(entry.meaning)}`;
    default:
      return `${entry.run}/${entry.kind}`;
  }
}

/** @param group entries that are told together, of which `entry` is the first */
function wordsOf(
  entry: JournalEntry,
  group: readonly JournalEntry[],
  nameOf: ReadonlyMap<string, string>,
  members: AnchorView['members'],
): Pick<Reason, 'title' | 'text'> {
  const systemOf = (member: string): string => members.find(({ id }) => id === member)?.systemName ?? member;
  const where = group
    .flatMap((each) => ('member' in each && each.member !== null ? [systemOf(each.member)] : []))
    .join(' and ');
  const keys = group.flatMap((each) => ('key' in each && each.key !== null ? [each.key] : []));
  const records = `record ${keys.join(', ')}`;
  const why = 'cause' in entry ? causeWords(entry.cause, members) : '';
  switch (entry.kind) {
    case 'create':
      return {
        title: `Created in ${systemOf(entry.member)}`,
        text: `record ${entry.key ?? ''}, ${plural(group.length, 'field')}`,
      };
    case 'archive':
      return { title: `Archived in ${where}`, text: `${records} · ${why}` };
    case 'delete':
      return { title: `Deleted in ${where}`, text: `${records} · ${why}` };
    case 'write back':
      return { title: `Told in ${where}`, text: `${records} · ${why}` };
    case 'tied':
      return { title: `Tied${entry.run === null ? ' by hand' : ''} in ${where}`, text: `${records} · ${why}` };
    case 'untied':
      return { title: `Untied${entry.run === null ? ' by hand' : ''} in ${where}`, text: `${records} · ${why}` };
    case 'gone':
      return { title: `Gone in ${where}`, text: records };
    case 'lost':
      return {
        title: `${nameOf.get(entry.field) ?? ''}: “${valueText(entry.meaning)}” lost`,
        text: `${where || 'what was agreed'} · ${why}`,
      };
    case 'chosen':
      return { title: `${nameOf.get(entry.field) ?? ''}: “${valueText(entry.meaning)}” chosen`, text: why };
    case 'update': {
      const [before, after] = [valueText(entry.before) || 'blank', valueText(entry.after) || 'blank'];
      const title = `${nameOf.get(entry.field) ?? ''}: ${before} → ${after}`;
      return { title, text: `${why} · written to ${where}` };
    }
    default:
      throw new Error(`unknown ${JSON.stringify(entry satisfies never)}`);
  }
}
