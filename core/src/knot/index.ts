export { changedMappings } from './changedMappings.js';
export {
  type CompiledCheck,
  type CompiledField,
  type CompiledKnot,
  type CompiledMapping,
  type CompiledMember,
  type CompiledOrProblems,
  compileKnot,
  compileMapping,
  type KnotProblem,
} from './compileKnot.js';
export { type Finding, type MemberSource, reviewKnot } from './review.js';
export { type Trial, type TrialCell, tryRecords } from './trial.js';
export {
  binWidth,
  type ComparedRecords,
  type EvidenceSurvey,
  type IdentitySurvey,
  type PairExample,
  surveyIdentity,
  type SurveyedRecord,
} from './identitySurvey.js';
export { KnotSurvey, type MemberSurvey, type SurveyCell, type SurveyCheck, type SurveyExample } from './survey.js';
export { type Passing, tryCheck, tryFilter } from './tryFormulas.js';
export { type ComputedField, fieldsNamedIn } from './computed.js';
export {
  type Check,
  type Evidence,
  type FormulaCheck,
  type Guards,
  type Knot,
  type Mapping,
  type Member,
  recordKeyPath,
  type SharedField,
  type UniqueCheck,
} from './knot.js';
