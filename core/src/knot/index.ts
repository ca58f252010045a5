export { changedMappings } from './changedMappings.js';
export {
  type CompiledCheck,
  type CompiledField,
  type CompiledKnot,
  type CompiledMapping,
  type CompiledMember,
  type CompiledOrProblems,
  compileKnot,
  type KnotProblem,
} from './compileKnot.js';
export type { Check, Guards, Knot, Mapping, Member, SharedField } from './knot.js';
