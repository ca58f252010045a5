export { changedMappings } from './changedMappings.js';
export { type CompiledKnot, type CompiledOrProblems, compileKnot, withReferences } from './compileKnot.js';
export { compileMapping } from './compileMapping.js';
export type { KnotProblem } from './knotProblem.js';
export {
  type CompiledCheck,
  type CompiledField,
  type CompiledMapping,
  type CompiledMember,
  filterNames,
  filterValues,
} from './recordFunctions.js';
export { compileComputed, type ComputedField, withComputed } from './computed.js';
export {
  type Commonness,
  type ComparisonKind,
  comparisonKinds,
  comparisonLevels,
  type EvidenceField,
  type FieldWeights,
  type KeyNormalisation,
  type KeyRule,
  type LevelWeights,
  mostEvidenceFields,
  type Related,
  type Thresholds,
  type ValueShares,
  type Weights,
} from './identityRules.js';
export { knotOrder, type OrderedKnot, referredKnots } from './knotOrder.js';
export {
  type Acknowledgement,
  type Check,
  type Evidence,
  type FormulaCheck,
  type Guards,
  type Knot,
  type Mapping,
  type Member,
  type OutcomeFields,
  type OutcomeState,
  recordKeyPath,
  type SharedField,
  type UniqueCheck,
} from './knot.js';
export { acknowledgedId, outcomePaths, outcomeStateId } from './observed.js';
export { canRefer, referenceWays } from './referenceProblems.js';
export {
  CheckJudge,
  rawFieldsOf,
  rawOf,
  type ReadableField,
  type ReadableRecord,
  readComparable,
  readShared,
  type ReadyCheck,
} from './readRecord.js';
export type { Rule, RuleStep } from './rule.js';
