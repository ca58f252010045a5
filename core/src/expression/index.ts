export { type Formula, type FormulaProblem, rawResult, rawVariable, readFormula, sharedVariable } from './formula.js';
export { type FormulaFunction, formulaHelp } from './functions.js';
