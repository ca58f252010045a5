export {
  checkFormulaTypes,
  type Formula,
  type FormulaProblem,
  type FormulaType,
  formulaTypeOf,
  namesIn,
  rawResult,
  rawVariable,
  readFormula,
  sharedVariable,
} from './formula.js';
export { type FormulaFunction, formulaHelp } from './functions.js';
export { inverseFormula } from './inverse.js';
