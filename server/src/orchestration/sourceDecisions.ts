import type { MemberId } from '@anchor-knot/core';
import type { UnusableRecord } from '@anchor-knot/connectors';
import type { MemberReading } from './readMembers.js';
import type { DecisionDraft, SourceReading } from './decisionDraft.js';
import type { MemberTrouble } from './runResult.js';

const longestKey = 200;
/** A guard asks about such a listing. */
export const tooShort = 'listing too short';

/** What a run knows by its end of the systems that it read, and what of that waits for a person. */
export function decisionsOfSources(
  systemName: (member: MemberId) => string,
  readings: ReadonlyMap<MemberId, MemberReading>,
  troubles: ReadonlyMap<MemberId, MemberTrouble>,
): { readonly sources: readonly SourceReading[]; readonly decisions: readonly DecisionDraft[] } {
  const members = new Set([...readings.keys(), ...troubles.keys()]);
  return {
    sources: [...members].map((member) => ({
      member,
      isWhole: !troubles.has(member) && readings.get(member)?.isWhole === true,
      files: [...(readings.get(member)?.files ?? [])],
    })),
    decisions: [
      ...[...troubles.values()]
        .filter(({ code }) => code !== tooShort)
        .map((trouble) => decisionOfTrouble(systemName, trouble)),
      ...[...readings].flatMap(([member, reading]) => decisionsOfUnusable(systemName(member), member, reading)),
    ],
  };
}

function decisionOfTrouble(
  systemName: (member: MemberId) => string,
  { member, code, words, advice }: MemberTrouble,
): DecisionDraft {
  const system = systemName(member);
  return {
    kind: 'trouble',
    member,
    fingerprint: code,
    says: `${words.startsWith(system) ? '' : `${system} could not be worked with: `}${words}. ${advice}`,
    detail: { code, advice },
  };
}

function decisionsOfUnusable(
  system: string,
  member: MemberId,
  { unusable, unusableCount }: Pick<MemberReading, 'unusable' | 'unusableCount'>,
): DecisionDraft[] {
  const drafts = unusable.map((record) => decisionOfUnusable(system, member, record));
  const left = unusableCount - unusable.length;
  if (left === 0) return drafts;
  const reason = `${left} more could not be taken`;
  return [...drafts, decisionOfUnusable(system, member, { reason })];
}

function decisionOfUnusable(system: string, member: MemberId, { reason, file, line }: UnusableRecord): DecisionDraft {
  const place = file === undefined ? reason : line === undefined ? file : `${file}: ${line}`;
  return {
    kind: 'unusable',
    member,
    reason,
    key: place.slice(0, longestKey) as DecisionDraft['key'],
    fingerprint: reason,
    says:
      `${system} gave something that could not be taken: ${reason}. Correct it there; until then nothing new begins ` +
      'from it. It stays here, whatever the next run reads.',
    detail: { file: file ?? null, line: line ?? null },
  };
}
