import type { KnotView, MemberSummary, Run } from '@anchor-knot/contracts';

export const count = (number: number): string => number.toLocaleString('en-GB');

export function plural(number: number, one: string, many = `${one}s`): string {
  return `${count(number)} ${number === 1 ? one : many}`;
}

/** A size as a person would say it. */
export function bytes(size: number): string {
  if (size < 1000) return plural(size, 'byte');
  return size < 1_000_000 ? `${(size / 1000).toFixed(1)} kB` : `${(size / 1_000_000).toFixed(1)} MB`;
}

type Definition = KnotView['definition'];
type Mapping = NonNullable<Definition['fields'][number]['mappings'][string]>;
type Step = Mapping['steps'][number];
type RuleStep = Definition['fields'][number]['rule']['steps'][number];

/** A step of a translation, as a person would say it. */
export function stepWords(step: Step, definition: Definition): string {
  switch (step.kind) {
    case 'trim':
      return 'trim';
    case 'case':
      return step.side === 'shared' ? `${step.form} case` : `kept in ${step.form} case there`;
    case 'cut':
      return `cut at ${count(step.length)}${step.ellipsis ? ' with …' : ''}`;
    case 'phone':
      return `phone, ${step.form === 'e164' ? 'E.164' : `${step.form} form`} (${step.country})`;
    case 'country':
      return `country, ${step.form === 'name' ? 'name' : step.form === 'alpha2' ? 'two-letter code' : 'three-letter code'}`;
    case 'crosswalk':
      return `crosswalk ${definition.crosswalks[step.table]?.name ?? step.table}`;
    case 'yesNo':
      return `yes is ${String(step.yes[0])}, no is ${String(step.no[0])}`;
    case 'number':
      return ['number', step.factor ? `times ${step.factor}` : '', step.places === undefined ? '' : plural(step.places, 'decimal place'), step.as === 'text' ? 'as text' : '']
        .filter(Boolean)
        .join(', ');
    case 'date':
      return `date as ${step.format}${step.zone ? ` in ${step.zone}` : ''}`;
    case 'list':
      return `list with “${step.separator}”`;
    case 'pad':
      return `filled up to ${count(step.length)} with “${step.with}”`;
    case 'replace':
      return step.by === '' ? `without “${step.find}”` : `“${step.find}” is “${step.by}” here`;
    case 'part':
      return `${step.part} in ${step.layout}`;
    case 'personName':
      return `${step.part} name`.replace(/(salutation|suffix) name/, '$1');
    case 'address':
      return `${step.part} of the address`;
    case 'email':
      return 'email';
    case 'money':
      return `money in ${step.currency.toUpperCase()}`;
    case 'path':
      return `at ${step.path}`;
    case 'link':
      return `key in ${step.address}`;
    case 'hash':
      return 'hash';
    case 'default':
      return `${String(step.value)} when blank`;
    case 'constant':
      return `always ${String(step.value)}`;
    case 'formula':
      return `formula ${step.inbound ?? step.outbound ?? ''}`;
    default:
      return step satisfies never;
  }
}

function ruleStepWords(step: RuleStep, memberName: (id: string) => string): string {
  switch (step.step) {
    case 'newest':
      return 'newest';
    case 'order':
      return step.members.map(memberName).join(', ');
    case 'greatest':
      return 'greatest';
    case 'least':
      return 'least';
    case 'longest':
      return 'longest';
    case 'present':
      return 'filled';
    case 'ask':
      return 'ask';
    default:
      return step satisfies never;
  }
}

export function ruleWords(rule: Definition['fields'][number]['rule'], members: readonly MemberSummary[]): string {
  const name = (id: string): string => members.find((member) => member.id === id)?.pennant.letters ?? id;
  const combine = rule.combine === 'sum' ? 'add up the changes' : rule.combine === 'union' ? 'unite the lists' : rule.combine === 'text' ? 'merge the lines' : undefined;
  return [...(combine ? [combine] : []), ...rule.steps.map((step) => ruleStepWords(step, name))].join(', ');
}

/** What a run did, or would do, in one sentence. */
export function runSentence(run: Run, members: readonly MemberSummary[]): string {
  if (run.state === 'waiting') return 'Waits for a worker.';
  if (!run.progress) return 'Has just begun.';
  const dry = run.kind === 'dry run';
  const parts = members.flatMap((member) => {
    const tally = run.progress?.tally[member.id];
    if (!tally) return [];
    const said: string[] = [];
    if (tally.create > 0) said.push(`${plural(tally.create, 'record')} ${dry ? 'would be' : run.endedAt ? 'to be' : 'to be'} created`);
    if (tally.update > 0) said.push(`${count(tally.update)} ${dry ? 'would be' : 'to be'} updated`);
    if (tally.archive > 0) said.push(`${count(tally.archive)} ${dry ? 'would be' : 'to be'} archived`);
    if (tally.delete > 0) said.push(`${count(tally.delete)} ${dry ? 'would be' : 'to be'} deleted`);
    return said.length > 0 ? [`${said.join(' and ')} in ${member.systemName}`] : [];
  });
  if (run.state === 'running') return `${phaseWords[run.progress.phase]}${run.progress.done > 0 ? `: ${count(run.progress.done)}` : ''}.`;
  if (parts.length === 0) return dry ? 'Nothing would be written.' : 'There was nothing to write.';
  if (dry) return `${parts.join('; ')}.`;
  const written = members.reduce((sum, { id }) => sum + (run.progress?.tally[id]?.written ?? 0), 0);
  const failed = members.reduce((sum, { id }) => sum + (run.progress?.tally[id]?.failed ?? 0), 0);
  return `${plural(written, 'record')} written${failed > 0 ? `, ${count(failed)} not` : ''}.`;
}

export const phaseWords: Record<NonNullable<Run['progress']>['phase'], string> = {
  resolving: 'Looking up writes that an earlier run left open',
  reading: 'Reading records',
  matching: 'Matching new records',
  planning: 'Merging and planning',
  writing: 'Writing',
  done: 'Done',
};

/** What waits, counted: singular and plural. */
const kindNames: Record<string, readonly [string, string]> = {
  held: ['held field', 'held fields'],
  duplicate: ['duplicate', 'duplicates'],
  'unsure match': ['unsure match', 'unsure matches'],
  unreadable: ['value that cannot be read', 'values that cannot be read'],
  unwritable: ['value that cannot be written', 'values that cannot be written'],
  rejected: ['rejected record', 'rejected records'],
  refused: ['refused write', 'refused writes'],
  'cannot be created': ['record that cannot be created', 'records that cannot be created'],
  'unclear write': ['unclear write', 'unclear writes'],
  'deleted elsewhere': ['deletion to settle', 'deletions to settle'],
  guard: ['run stopped by a guard', 'runs stopped by a guard'],
};

export function kindWords(kind: string, number: number): string {
  return kindNames[kind]?.[number === 1 ? 0 : 1] ?? kind;
}

/** A score in bits. */
export function bitsWords(bits: number): string {
  return `${bits < 0 ? '−' : ''}${Math.abs(bits).toFixed(2)} bits`;
}

/** What a score means: how sure it is that two records are the same thing. */
export function chanceWords(bits: number): string {
  const chance = 1 / (1 + 2 ** -bits);
  if (chance >= 0.5) return chance > 0.9999 ? 'over 99.99 % sure' : `${(100 * chance).toFixed(chance >= 0.99 ? 2 : 0)} % sure`;
  const odds = Math.round(2 ** -bits);
  return odds <= 1 ? 'one to one' : `${count(odds)} to one against`;
}

type Json = unknown;

/** Why a value is what it is. */
export function causeWords(cause: Json, members: readonly MemberSummary[]): string {
  const name = (id: unknown): string => members.find((member) => member.id === id)?.systemName ?? 'what was agreed';
  if (typeof cause !== 'object' || cause === null) return '';
  const { kind, members: from, rule, name: person } = cause as { kind?: string; members?: unknown[]; rule?: string; name?: string };
  const names = (from ?? []).map(name).join(' and ') || 'what was agreed';
  switch (kind) {
    case 'edit':
      return `edited in ${names}`;
    case 'rule':
      return `${rule === 'newest' ? 'newest edit' : rule === 'order' ? 'order of systems' : (rule ?? '')} chose ${names}`;
    case 'combined':
      return `combined from ${names}`;
    case 'person':
      return `chosen by ${person ?? ''}`;
    case 'equal':
      return `equal in ${names}`;
    case 'deleted':
      return `deleted in ${name((cause as { member?: unknown }).member)}`;
    case 'formula':
      return 'computed from other fields';
    case 'verdict':
      return 'somebody said that it is the same';
    case 'evidence': {
      const { with: other, bits } = cause as { with?: { member: string; key: string }; bits?: number };
      return `like record ${other?.key ?? ''} of ${name(other?.member)}, ${bitsWords(bits ?? 0)}`;
    }
    default:
      return '';
  }
}
