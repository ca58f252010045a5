/**
 * What a decision is about: an anchor, a record that belongs to none, the run itself, or what a member's system gave: a
 * source.
 */
export type DecisionSubject = 'anchor' | 'record' | 'run' | 'source';

interface KindOfDecision {
  readonly about: DecisionSubject;
  /** One of them, and several, for people. */
  readonly words: readonly [one: string, many: string];
  /** Whether a person settles it here; others are settled in a system, or in the definition. */
  readonly isSettledHere: boolean;
  /** Whether a run in which one appears has done less than it was to do. */
  readonly isFailure: boolean;
}

/**
 * Everything that can wait for a person, in the order in which it is shown: what a person can settle, then what stops
 * most. A record can be rejected while it has no anchor too.
 */
export const decisionKinds = {
  guard: {
    about: 'run',
    words: ['run stopped by a guard', 'runs stopped by a guard'],
    isSettledHere: true,
    isFailure: false,
  },
  trouble: {
    about: 'source',
    words: ['system in trouble', 'systems in trouble'],
    isSettledHere: false,
    isFailure: false,
  },
  held: { about: 'anchor', words: ['held field', 'held fields'], isSettledHere: true, isFailure: false },
  'unsure match': { about: 'record', words: ['unsure match', 'unsure matches'], isSettledHere: true, isFailure: false },
  duplicate: { about: 'record', words: ['duplicate', 'duplicates'], isSettledHere: true, isFailure: false },
  'unclear write': {
    about: 'anchor',
    words: ['unclear write', 'unclear writes'],
    isSettledHere: true,
    isFailure: true,
  },
  'deleted elsewhere': {
    about: 'anchor',
    words: ['deletion to settle', 'deletions to settle'],
    isSettledHere: true,
    isFailure: false,
  },
  refused: { about: 'anchor', words: ['refused write', 'refused writes'], isSettledHere: false, isFailure: true },
  rejected: { about: 'anchor', words: ['rejected record', 'rejected records'], isSettledHere: false, isFailure: true },
  'cannot be created': {
    about: 'anchor',
    words: ['record that cannot be created', 'records that cannot be created'],
    isSettledHere: false,
    isFailure: true,
  },
  unusable: {
    about: 'source',
    words: ['record that cannot be taken', 'records that cannot be taken'],
    isSettledHere: true,
    isFailure: true,
  },
  'fields changed': {
    about: 'source',
    words: ['change of fields', 'changes of fields'],
    isSettledHere: true,
    isFailure: false,
  },
  'unusually quiet': {
    about: 'source',
    words: ['system that is unusually quiet', 'systems that are unusually quiet'],
    isSettledHere: true,
    isFailure: false,
  },
  unreadable: {
    about: 'anchor',
    words: ['value that cannot be read', 'values that cannot be read'],
    isSettledHere: false,
    isFailure: true,
  },
  unwritable: {
    about: 'anchor',
    words: ['value that cannot be written', 'values that cannot be written'],
    isSettledHere: false,
    isFailure: true,
  },
  waiting: {
    about: 'anchor',
    words: ['reference that waits', 'references that wait'],
    isSettledHere: false,
    isFailure: false,
  },
} as const satisfies Record<string, KindOfDecision>;

export type DecisionKind = keyof typeof decisionKinds;
export const decisionKindNames = Object.keys(decisionKinds) as [DecisionKind, ...DecisionKind[]];

/** What a decision is about; of those on rejected records, whether there is an anchor says it. */
export function subjectOf(kind: DecisionKind, hasAnchor: boolean): DecisionSubject {
  return kind === 'rejected' && !hasAnchor ? 'record' : decisionKinds[kind].about;
}

/** Kinds of which a new one means that a run has done less than it was to do. */
export const failureKinds: readonly DecisionKind[] = decisionKindNames.filter((kind) => decisionKinds[kind].isFailure);

/** Kinds that nobody has to do anything about: they close when what they wait for is there. */
export const passingKinds: ReadonlySet<DecisionKind> = new Set(['waiting']);
