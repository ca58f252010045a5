import { failed, good, type MemberId, type Raw } from '../../record/index.js';
import type { Crosswalk } from '../crosswalk.js';
import { type Scalar, type Step, type StepLens, textOf } from '../step.js';

export function crosswalkLens(table: Crosswalk, member: MemberId): StepLens {
  const meanings = new Map<string, string[]>();
  const written = new Map<string, Scalar>();
  for (const row of table.rows) {
    const values = row.values[member] ?? [];
    if (values[0] !== undefined && !written.has(row.shared)) written.set(row.shared, values[0]);
    for (const value of values) {
      const rows = meanings.get(String(value)) ?? [];
      rows.push(row.shared);
      meanings.set(String(value), rows);
    }
  }
  return {
    usesHeld: true,
    inbound: (value, held) => {
      const text = textOf(value);
      const rows = text === undefined ? undefined : (meanings.get(text) ?? meanings.get(text.trim()));
      if (!rows) return failed(`“${text ?? JSON.stringify(value)}” is not in the crosswalk ${table.name}`);
      return good(typeof held === 'string' && rows.includes(held) ? held : (rows[0] as string));
    },
    outbound: (value) => {
      const raw = written.get(String(value));
      return raw === undefined
        ? failed(`the crosswalk ${table.name} has no value here for “${String(value)}”`)
        : good(raw);
    },
  };
}

export function yesNoLens(step: Extract<Step, { kind: 'yesNo' }>): StepLens {
  const fold = (value: Scalar): string => String(value).trim().toLowerCase();
  const yes = new Set(step.yes.map(fold));
  const no = new Set(step.no.map(fold));
  const write = (words: readonly Scalar[], meaning: string): ReturnType<NonNullable<StepLens['outbound']>> =>
    words[0] === undefined ? failed(`this system has no word for ${meaning}`) : good<Raw>(words[0]);
  return {
    setsRawForm: true,
    inbound: (value) => {
      const word = fold(textOf(value) ?? '');
      if (yes.has(word)) return good(true);
      if (no.has(word)) return good(false);
      return failed(
        `“${textOf(value) ?? JSON.stringify(value)}” is neither yes (${step.yes.join(', ')}) nor no ` +
          `(${step.no.join(', ')})`,
      );
    },
    outbound: (value) => (value === true ? write(step.yes, 'yes') : write(step.no, 'no')),
  };
}
