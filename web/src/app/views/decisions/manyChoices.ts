import type { Choice, Decision, MemberSummary } from '@anchor-knot/contracts';
import { count, plural } from '../../words/sentences';

/** One way to decide several at once. */
export interface ManyChoice {
  readonly says: string;
  /** What follows, with numbers. */
  readonly follows: string;
  readonly choices: readonly { readonly decision: Decision; readonly choice: Choice }[];
}

type Held = Extract<Decision, { kind: 'held' }>;

/**
 * What can be done with all that are ticked: held fields take what one system gave, duplicates keep the fuller record,
 * refused writes are tried again. What fits none of them is left as it is, and that is said.
 */
export function manyChoices(
  decisions: readonly Decision[],
  membersOf: (decision: Decision) => readonly MemberSummary[],
): readonly ManyChoice[] {
  return [
    ...systemsGiving(decisions, membersOf).map(({ system, name }) => takeValue(decisions, membersOf, system, name)),
    keepFuller(decisions),
    tryAgain(decisions),
    apart(decisions),
  ].filter(({ choices }) => choices.length > 0);
}

const isHeld = (decision: Decision): decision is Held => decision.kind === 'held';
const leaves = (some: number, all: number): string =>
  some === all ? '' : ` ${plural(all - some, 'other stays as it is', 'others stay as they are')}.`;

function systemsGiving(
  decisions: readonly Decision[],
  membersOf: (decision: Decision) => readonly MemberSummary[],
): { readonly system: string; readonly name: string }[] {
  const systems = new Map<string, string>();
  for (const decision of decisions.filter(isHeld))
    for (const { givers } of decision.detail.candidates)
      for (const giver of givers) {
        const member = giver.kind === 'member' ? membersOf(decision).find(({ id }) => id === giver.member) : undefined;
        if (member) systems.set(member.system, member.systemName);
      }
  return [...systems].map(([system, name]) => ({ system, name }));
}

function takeValue(
  decisions: readonly Decision[],
  membersOf: (decision: Decision) => readonly MemberSummary[],
  system: string,
  name: string,
): ManyChoice {
  const written = new Map<string, number>();
  const choices = decisions.filter(isHeld).flatMap((decision) => {
    const members = membersOf(decision);
    const isOf = (member: string): boolean => members.find(({ id }) => id === member)?.system === system;
    const candidate = decision.detail.candidates.find(({ givers }) =>
      givers.some((giver) => giver.kind === 'member' && isOf(giver.member)),
    );
    if (!candidate) return [];
    const gave = new Set(candidate.givers.flatMap((giver) => (giver.kind === 'member' ? [giver.member] : [])));
    for (const member of decision.writes.filter((id) => !gave.has(id))) {
      const called = members.find(({ id }) => id === member)?.systemName ?? member;
      written.set(called, (written.get(called) ?? 0) + 1);
    }
    const { fingerprint } = decision;
    return [{ decision, choice: { choose: 'value', value: candidate.value, fingerprint } as const }];
  });
  const where = [...written].map(([called, values]) => `${called} ${count(values)}`).join(', ');
  const writes = where === '' ? 'Nothing is to be written.' : `Up to so many values would be written: ${where}.`;
  return {
    says: `Take what ${name} says`,
    follows: `${plural(choices.length, 'field')} would take it. ${writes}${leaves(choices.length, decisions.length)}`,
    choices,
  };
}

function keepFuller(decisions: readonly Decision[]): ManyChoice {
  let aside = 0;
  const choices = decisions.flatMap((decision) => {
    if (decision.kind !== 'duplicate' || decision.fullest === null) return [];
    const { keys, tiedKey } = decision.detail;
    aside += keys.length + (tiedKey === null ? 0 : 1) - 1;
    const { fullest: key, fingerprint } = decision;
    return [{ decision, choice: { choose: 'record', key, fingerprint } as const }];
  });
  return {
    says: 'Keep the fuller record of each',
    follows:
      `Of ${plural(choices.length, 'group')} the record that holds most would be kept the same, and ` +
      `${plural(aside, 'record')} set aside. Nothing is written.${leaves(choices.length, decisions.length)}`,
    choices,
  };
}

function apart(decisions: readonly Decision[]): ManyChoice {
  const choices = decisions.flatMap((decision) =>
    decision.kind === 'unsure match' || decision.kind === 'duplicate'
      ? [{ decision, choice: { choose: 'different', fingerprint: decision.fingerprint } as const }]
      : [],
  );
  return {
    says: 'They are different things',
    follows:
      `${plural(choices.length, 'match', 'matches')} would be turned down, and not asked again.` +
      leaves(choices.length, decisions.length),
    choices,
  };
}

function tryAgain(decisions: readonly Decision[]): ManyChoice {
  const choices = decisions.flatMap((decision) =>
    decision.kind === 'refused'
      ? [{ decision, choice: { choose: 'try again', fingerprint: decision.fingerprint } as const }]
      : [],
  );
  return {
    says: 'Try again what was refused',
    follows:
      `${plural(choices.length, 'write')} would be tried again with the next run.` +
      leaves(choices.length, decisions.length),
    choices,
  };
}
