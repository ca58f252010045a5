import { type CauseView, type DecisionKind, decisionKinds, type MemberSummary, type Run } from '@anchor-knot/contracts';
import type { Knot, Rule, RuleStep, Step } from '@anchor-knot/core';

export const count = (number: number): string => number.toLocaleString('en-GB');

export function plural(number: number, one: string, many = `${one}s`): string {
  return `${count(number)} ${number === 1 ? one : many}`;
}

/** Parts of a sentence, one after the other. */
export function listed(parts: readonly string[], last: 'and' | 'or' = 'and'): string {
  return parts.length < 2 ? (parts[0] ?? '') : `${parts.slice(0, -1).join(', ')} ${last} ${parts.at(-1)}`;
}

/** A size as a person would say it. */
export function bytes(size: number): string {
  if (size < 1000) return plural(size, 'byte');
  return size < 1_000_000 ? `${(size / 1000).toFixed(1)} kB` : `${(size / 1_000_000).toFixed(1)} MB`;
}

/** A step of a translation, as a person would say it. */
export function stepWords(step: Step, definition: Pick<Knot, 'crosswalks'>): string {
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
      if (step.form === 'name') return 'country, name';
      return `country, ${step.form === 'alpha2' ? 'two' : 'three'}-letter code`;
    case 'crosswalk':
      return `crosswalk ${definition.crosswalks[step.table]?.name ?? step.table}`;
    case 'yesNo':
      return `yes is ${String(step.yes[0])}, no is ${String(step.no[0])}`;
    case 'number':
      return [
        'number',
        step.factor ? `times ${step.factor}` : '',
        step.places === undefined ? '' : plural(step.places, 'decimal place'),
        step.as === 'text' ? 'as text' : '',
      ]
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
    case 'reference':
      return `refers by ${'member' in step.by ? 'key' : 'value'}${step.notFound ? '' : ', else waits'}`;
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

/** A rule as a sentence with the members' names, for where there is room. */
export function ruleSentence(rule: Rule, members: readonly MemberSummary[]): string {
  const name = (id: string): string => members.find((member) => member.id === id)?.systemName ?? id;
  const steps = rule.steps.map((step): string => {
    switch (step.step) {
      case 'newest':
        return step.toleranceSeconds === undefined ? 'the newest' : `the newest by ${step.toleranceSeconds} s`;
      case 'order':
        return `the first of ${step.members.map(name).join(', ')}`;
      case 'present':
        return 'filled before blank';
      case 'ask':
        return 'ask';
      default:
        return `the ${step.step}`;
    }
  });
  return [...(rule.combine ? [combineWords[rule.combine]] : []), ...steps].join('; else ');
}

const combineWords = { sum: 'add up the changes', union: 'unite the lists', text: 'merge the lines' } as const;

export function ruleWords(rule: Rule, members: readonly MemberSummary[]): string {
  const name = (id: string): string => members.find((member) => member.id === id)?.pennant.letters ?? id;
  return [
    ...(rule.combine ? [combineWords[rule.combine]] : []),
    ...rule.steps.map((step) => ruleStepWords(step, name)),
  ].join(', ');
}

/** What a run did, or would do, in one sentence. */
export function runSentence(run: Run, members: readonly MemberSummary[]): string {
  if (run.state === 'waiting') return 'Waits for a worker.';
  if (run.state === 'missed') return 'It did not happen.';
  if (!run.progress) return 'Has just begun.';
  const dry = run.kind === 'dry run';
  const parts = members.flatMap((member) => {
    const tally = run.progress?.tally[member.id];
    if (!tally) return [];
    const said: string[] = [];
    if (tally.create > 0)
      said.push(`${plural(tally.create, 'record')} ${dry ? 'would be' : run.endedAt ? 'to be' : 'to be'} created`);
    if (tally.update > 0) said.push(`${count(tally.update)} ${dry ? 'would be' : 'to be'} updated`);
    if (tally.archive > 0) said.push(`${count(tally.archive)} ${dry ? 'would be' : 'to be'} archived`);
    if (tally.delete > 0) said.push(`${count(tally.delete)} ${dry ? 'would be' : 'to be'} deleted`);
    return said.length > 0 ? [`${said.join(' and ')} in ${member.systemName}`] : [];
  });
  if (run.state === 'running')
    return `${phaseWords[run.progress.phase]}${run.progress.done > 0 ? `: ${count(run.progress.done)}` : ''}.`;
  if (parts.length === 0) return dry ? 'Nothing would be written.' : 'There was nothing to write.';
  if (dry) return `${parts.join('; ')}.`;
  const written = members.reduce((sum, { id }) => sum + (run.progress?.tally[id]?.written ?? 0), 0);
  const failed = members.reduce((sum, { id }) => sum + (run.progress?.tally[id]?.failed ?? 0), 0);
  return `${plural(written, 'record')} written${failed > 0 ? `, ${count(failed)} not` : ''}.`;
}

/** Who or what started a run. */
export function starterWords({ cause, startedBy }: Pick<Run, 'cause' | 'startedBy'>): string {
  return {
    person: startedBy,
    schedule: 'its timing',
    event: 'an event',
    asking: 'asking',
    release: 'what was waited for',
    retry: 'another try',
    call: 'another program',
  }[cause];
}

export const phaseWords: Record<NonNullable<Run['progress']>['phase'], string> = {
  resolving: 'Looking up writes that an earlier run left open',
  reading: 'Reading records',
  matching: 'Matching new records',
  planning: 'Merging and planning',
  writing: 'Writing',
  done: 'Done',
};

/** What waits, counted. */
export function kindWords(kind: DecisionKind, number: number): string {
  return decisionKinds[kind].words[number === 1 ? 0 : 1];
}

/** A score in bits. */
export function bitsWords(bits: number): string {
  return `${bits < 0 ? '−' : ''}${Math.abs(bits).toFixed(2)} bits`;
}

/** What a score means: how sure it is that two records are the same thing. */
export function chanceWords(bits: number): string {
  const chance = 1 / (1 + 2 ** -bits);
  if (chance >= 0.5)
    return chance > 0.9999 ? 'over 99.99 % sure' : `${(100 * chance).toFixed(chance >= 0.99 ? 2 : 0)} % sure`;
  const odds = Math.round(2 ** -bits);
  return odds <= 1 ? 'one to one' : `${count(odds)} to one against`;
}

/** Why a value is what it is, or why a record belongs to a thing. */
export function causeWords(cause: CauseView | null, members: readonly MemberSummary[]): string {
  if (cause === null) return '';
  const name = (id: string): string => members.find((member) => member.id === id)?.systemName ?? 'what was agreed';
  const names = (ids: readonly string[]): string => ids.map(name).join(' and ') || 'what was agreed';
  switch (cause.kind) {
    case 'edit':
      return `edited in ${names(cause.members)}`;
    case 'rule':
      return `${ruleNames[cause.rule] ?? cause.rule} chose ${names(cause.members)}`;
    case 'combined':
      return `combined from ${names(cause.members)}`;
    case 'person':
      return `chosen by ${cause.name}`;
    case 'equal':
      return `equal in ${names(cause.members)}`;
    case 'deleted':
      return `deleted in ${name(cause.member)}`;
    case 'outcome':
      return `${outcomeWords[cause.state]} in ${name(cause.member)}${cause.words ? `: ${cause.words}` : ''}`;
    case 'referred gone':
      return 'what it refers to is there no more';
    case 'reference':
      return `what ${name(cause.member)} refers to is another thing now`;
    case 'number':
      return 'the next number of its series';
    case 'formula':
      return 'computed from other fields';
    case 'verdict':
      return 'somebody said that it is the same';
    case 'key rule':
      return `the same ${cause.rule.toLowerCase()}`;
    case 'evidence':
      return `like record ${cause.with.key} of ${name(cause.with.member)}, ${bitsWords(cause.bits)}`;
    default:
      throw new Error(`unknown cause ${JSON.stringify(cause satisfies never)}`);
  }
}

const outcomeWords = { done: 'it is done', failed: 'it failed', pending: 'it waits' } as const;
const ruleNames: Readonly<Record<string, string>> = { newest: 'newest edit', order: 'order of systems' };
