export type { Finding } from './finding.js';
export {
  binWidth,
  type ComparedRecords,
  type EvidenceSurvey,
  type IdentitySurvey,
  type PairExample,
  surveyIdentity,
  type SurveyedRecord,
} from './identitySurvey.js';
export { readableFields } from './readableFields.js';
export { type MemberSource, reviewKnot } from './review.js';
export { KnotSurvey, type MemberSurvey, type SurveyCell, type SurveyCheck, type SurveyExample } from './survey.js';
export { type Trial, type TrialCell, tryRecords } from './trial.js';
export { type Passing, tryCheck, tryFilter } from './tryFormulas.js';
