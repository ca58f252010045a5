/** Which fields of several objects correspond, and why: proposals for a person to accept or turn down. */
export type { Reason } from './pairEvidence.js';
export { type ProposedEvidence, proposeEvidence } from './proposeEvidence.js';
export {
  type KnownField,
  type ProposalMember,
  type ProposedCell,
  type ProposedField,
  proposeFields,
  type TurnedDown,
} from './proposeFields.js';
export { type PairProposals, type ProposedPair, proposePairs } from './proposePairs.js';
export { fieldsToLookUp, type FieldValues, type FoundValues, proposeReferences } from './proposeReferences.js';
export { reasonWords } from './reasonWords.js';
export { type FieldSketch, type ObjectSketch, ObjectSketcher } from './sketch.js';
export { TiedRecords } from './tiedEvidence.js';
