export {
  type Agreed,
  type Ahead,
  type Anchor,
  type Cause,
  expectedFields,
  type Giver,
  isAlive,
  isEdited,
  type Loss,
  type LostValue,
  type MemberOutcome,
  type OutcomeAccount,
  type Parked,
  presentOf,
  type Reading,
  type Tie,
  type TieEnd,
  type Told,
} from './anchor.js';
export { removalOf } from './deletions.js';
export {
  type AnchorMerge,
  type AnchorMergeInput,
  type FieldLoss,
  heldFingerprint,
  mergeAnchor,
} from './mergeAnchor.js';
export { putLevel, referenceQuestions, referencesOf } from './askReferences.js';
export { type FieldTie, type FieldWrite, type Held, type Problem, problemOf, withoutValues } from './fieldMerge.js';
export { mergeField } from './mergeField.js';
export { applyRule, type Candidate, compareShared } from './rule.js';
export { type HeldChoice, settleHeld, type SettledHeld } from './settleHeld.js';
