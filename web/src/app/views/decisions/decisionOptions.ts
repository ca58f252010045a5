import type { Choice, Decision, GiverView, MemberSummary } from '@anchor-knot/contracts';
import { valueText } from '../../values/valueText';
import { bitsWords } from '../../words/sentences';

/** One way to decide: a key to press, what it says, and what is sent. */
export interface DecisionOption {
  readonly key: string;
  readonly who: string;
  readonly value: unknown;
  readonly shows: boolean;
  readonly note: string;
  readonly choice: Choice;
  /** Whether it is done with all that a system refused in the same words. */
  readonly forAll?: boolean;
}

/** The ways in which a decision can be decided, in the order of their keys. */
export function optionsOf(decision: Decision, members: readonly MemberSummary[]): DecisionOption[] {
  const { fingerprint } = decision;
  const plain = { value: undefined, shows: false, note: '' };
  const numbered = (options: Omit<DecisionOption, 'key'>[]): DecisionOption[] =>
    options.map((option, index) => ({ ...option, key: String(index + 1) }));
  switch (decision.kind) {
    case 'held': {
      const { base, candidates, isCircle } = decision.detail;
      const name = (giver: GiverView): string => {
        if (giver.kind === 'person') return giver.name;
        if (giver.kind === 'series') return 'the series';
        return giver.kind === 'member' ? (members.find(({ id }) => id === giver.member)?.systemName ?? '') : '';
      };
      const known = base !== null && candidates.some(({ value }) => valueText(value) === valueText(base.value));
      return [
        ...numbered(
          isCircle
            ? [{ ...plain, who: 'let it stand at the top', choice: { choose: 'value', value: null, fingerprint } }]
            : candidates.map(({ value, givers }) => ({
                who: givers.map(name).join(' and '),
                value,
                shows: true,
                note: '',
                choice: { choose: 'value', value, fingerprint },
              })),
        ),
        ...(base && !known
          ? [
              {
                key: '0',
                who: 'stay with what was agreed',
                value: base.value,
                shows: true,
                note: '',
                choice: { choose: 'value', value: base.value, fingerprint },
              } satisfies DecisionOption,
            ]
          : []),
      ];
    }
    case 'duplicate': {
      const { keys, tiedKey } = decision.detail;
      const all = [...(tiedKey === null ? [] : [tiedKey]), ...keys];
      return [
        ...numbered([
          ...all.map((key): Omit<DecisionOption, 'key'> => ({
            ...plain,
            who: `keep record ${key}`,
            note: key === tiedKey ? 'tied now' : '',
            choice: { choose: 'record', key, fingerprint },
          })),
          { ...plain, who: 'they are different things', choice: { choose: 'different', fingerprint } },
        ]),
        { ...plain, key: 'l', who: 'later', choice: { choose: 'later', fingerprint } },
      ];
    }
    case 'unsure match': {
      const { candidates } = decision.detail;
      const only = candidates.length === 1;
      return [
        ...numbered([
          ...candidates.map(({ with: other, score }, index): Omit<DecisionOption, 'key'> => ({
            ...plain,
            who: only ? 'the same' : other ? `the same as ${other.key}` : `the same as candidate ${index + 1}`,
            note: score && !only ? bitsWords(score.bits) : '',
            choice: { choose: 'same', candidate: index, fingerprint },
          })),
          { ...plain, who: only ? 'not the same' : 'none of them', choice: { choose: 'different', fingerprint } },
        ]),
        { ...plain, key: 'l', who: 'later', choice: { choose: 'later', fingerprint } },
      ];
    }
    case 'deleted elsewhere': {
      const { others } = decision.detail;
      const where = (may: 'archive' | 'delete'): string =>
        others
          .filter((other) => other[may])
          .map((other) => members.find(({ id }) => id === other.member)?.systemName ?? other.member)
          .join(' and ');
      const offered = (['archive', 'delete'] as const).filter((may) => where(may) !== '');
      return numbered([
        { ...plain, who: 'keep it where it is', choice: { choose: 'keep others', fingerprint } },
        ...offered.map((may): Omit<DecisionOption, 'key'> => ({
          ...plain,
          who: `${may} it in ${where(may)}`,
          choice: { choose: `${may} others`, fingerprint },
        })),
      ]);
    }
    case 'refused': {
      const choice = { choose: 'try again', fingerprint } as const;
      const all = { ...plain, who: `try all ${decision.alike} again that were refused so`, choice, forAll: true };
      return numbered([{ ...plain, who: 'try again with the next run', choice }, ...(decision.alike > 1 ? [all] : [])]);
    }
    case 'unclear write':
      return numbered([
        { ...plain, who: 'it is not there: create it again', choice: { choose: 'try again', fingerprint } },
      ]);
    case 'unusable':
    case 'fields changed':
    case 'unusually quiet':
      return numbered([{ ...plain, who: 'seen', choice: { choose: 'seen', fingerprint } }]);
    case 'guard':
      return numbered([
        { ...plain, who: 'run over the guards this once', choice: { choose: 'try again', fingerprint } },
      ]);
    default:
      return [];
  }
}
