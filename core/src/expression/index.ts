export { type Formula, rawResult, rawVariable, readFormula, sharedVariable } from './formula.js';
export { type FormulaFunction, formulaFunctions } from './functions.js';
