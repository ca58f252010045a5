import { type DecisionKind, decisionKinds, failureKinds } from '@anchor-knot/contracts';
import type { TroubleCode } from '@anchor-knot/connectors';
import type { CompiledKnot, MemberId } from '@anchor-knot/core';
import type { MemberReading } from './readMembers.js';
import type { MemberTrouble, RunResult } from './runResult.js';
import type { Tally } from './tally.js';

/** How a run ended that came to its end: what is said of it, and whether it has done all that it was to do. */

/**
 * @param stopAsked whether somebody asked to stop it
 * @param troubled how many members were in trouble
 * @param readings of each member that was read, whether that failed
 */
export function stateOf(stopAsked: boolean, troubled: number, readings: readonly boolean[]): RunResult['state'] {
  if (stopAsked) return 'stopped';
  if (troubled === 0) return 'succeeded';
  return readings.every((failed) => failed) ? 'failed' : 'succeeded in part';
}

/** Troubles that may pass by themselves: nobody answers, a server fails, no call is left for now. */
const passing: ReadonlySet<string> = new Set<TroubleCode>(['unreachable', 'server error', 'too many calls']);

/** Members of which something was not done, and may be when it is tried again. */
export function worthAnotherTry(
  troubles: ReadonlyMap<MemberId, MemberTrouble>,
  undone: ReadonlySet<MemberId>,
): readonly MemberId[] {
  const mayPass = (member: MemberId): boolean => {
    const trouble = troubles.get(member);
    return trouble ? passing.has(trouble.code) : undone.has(member);
  };
  return [...new Set([...troubles.keys(), ...undone])].filter(mayPass);
}

/**
 * Members whose reading counts from now on, and how much of them had changed. What a run read that was stopped before
 * it was settled is read again, and counts for nothing.
 * @param unsettled members of which something was read and not settled
 */
export function whatWasRead(
  state: RunResult['state'],
  readings: ReadonlyMap<MemberId, Pick<MemberReading, 'trouble' | 'isNamed' | 'isWhole'>>,
  unsettled: ReadonlySet<MemberId>,
  tally: Pick<Tally, 'of'>,
): Pick<RunResult, 'readWell' | 'readByName' | 'changed'> {
  const isStopped = state.startsWith('stopped');
  const counting = isStopped
    ? []
    : [...readings].filter(([member, { trouble }]) => trouble === undefined && !unsettled.has(member));
  const membersOf = (isNamed: boolean): MemberId[] =>
    counting.flatMap(([member, reading]) => (reading.isNamed === isNamed ? [member] : []));
  return {
    readWell: membersOf(false),
    readByName: membersOf(true),
    changed: new Map(
      counting.flatMap(([member, { isWhole }]) => (isWhole ? [] : [[member, tally.of(member).read] as const])),
    ),
  };
}

/**
 * A run in which something failed that had not failed before has not done all that it was to do.
 * @param opened how many decisions of each kind opened in it
 */
export function inPart(result: RunResult, opened: ReadonlyMap<DecisionKind, number>): RunResult {
  const said = failureKinds.flatMap((kind) => {
    const count = opened.get(kind) ?? 0;
    return count === 0 ? [] : [`${count} ${decisionKinds[kind].words[count === 1 ? 0 : 1]}`];
  });
  if (result.state !== 'succeeded' || said.length === 0) return result;
  const words = `New since the last run: ${said.join(', ')}.`;
  return { ...result, state: 'succeeded in part', words: [result.words, words].filter(Boolean).join(' ') };
}

/**
 * What is said where no member may start a thing: else records that belong to nothing were left in silence.
 * @param untied how many records belong to nothing
 */
export function nothingBegins({ members, thing }: CompiledKnot, untied: number): string | undefined {
  if (untied === 0 || members.some(({ startsAnchors }) => startsAnchors)) return undefined;
  const are = untied === 1 ? '1 record is' : `${untied} records are`;
  return `${are} tied to nothing and left so: no member may start a new ${thing}`;
}
