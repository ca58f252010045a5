export { compileStep, type Referring } from './compileStep.js';
export type { Crosswalk, CrosswalkRow } from './crosswalk.js';
export { type Direction, type Lens, type LensOptions, makeLens } from './lens.js';
export {
  type AddressPart,
  oneWayKinds,
  type PersonNamePart,
  type ReferenceStep,
  type Rounding,
  type Scalar,
  type Step,
  type StepKind,
  type StepLens,
} from './step.js';
export { Levels } from './levels.js';
export { type KnotQuestions, type KnownName, LookUps, Questions } from './lookUps.js';
export { countryCode } from './steps/country.js';
