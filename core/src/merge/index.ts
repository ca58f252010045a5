export {
  type Agreed,
  type Ahead,
  type Anchor,
  type Cause,
  expectedFields,
  type Giver,
  type LostValue,
  type Parked,
  presentOf,
  type Reading,
  type Tie,
  type TieEnd,
} from './anchor.js';
export { type AnchorMerge, type AnchorMergeInput, heldFingerprint, mergeAnchor } from './mergeAnchor.js';
export { type FieldTie, type FieldWrite, type Held, mergeField, type Problem } from './mergeField.js';
export { applyRule, type Candidate, compareShared, type Rule, type RuleStep } from './rule.js';
export { type HeldChoice, settleHeld, type SettledHeld } from './settleHeld.js';
