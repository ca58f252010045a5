export { BlockIndex, blocksVersion, storedBlocks } from './blocking.js';
export {
  bestAndBeaten,
  chooseTies,
  defaultThresholds,
  type JudgedPair,
  type Judgement,
  type ScoredPair,
} from './chooseTies.js';
export { learnShares, ShareTable } from './commonness.js';
export { comparisonOf } from './comparison.js';
export {
  type EvidenceColumn,
  type EvidenceRow,
  type EvidenceTexts,
  evidenceTexts,
  patternOf,
  prepareColumns,
} from './evidence.js';
export { type AnyRecords, learnFromPairs, leastBits, LikelyPairs } from './likelyPairs.js';
export { keyOf, type RuleSays, ruleSays } from './keyRule.js';
export {
  type Candidate as UnitCandidate,
  type ConsideredPair,
  type EvidenceCase,
  type EvidenceDoubt,
  type EvidenceOutcome,
  type KnownUnit,
  matchByEvidence,
} from './matchByEvidence.js';
export { type ComparedAnchor, type FreeCase, matchFree } from './matchFree.js';
export { type MatchJob, type MatchRange, PreparedJob } from './matchJob.js';
export { commonnessAt, type ComparedPairs, comparePairs, type Comparing } from './matchPairs.js';
export type { Blocked, KnownAnchors, MatchCandidate, MatchDoubt, Matching, Newcomer, TieReason } from './matching.js';
export { blockedMembers } from './matching.js';
export { RecordMatching } from './recordMatching.js';
export { levelBits, type Score, type ScorePart, Scorer } from './score.js';
export { finished, inOneStep, type Steps } from './steps.js';
export { recordId, type RecordName, type Verdict, Verdicts } from './verdict.js';
export { learnWeights, type PatternCounts, probabilityOf, sampleAnyPairs } from './weights.js';
