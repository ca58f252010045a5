/** For the tests of other packages: histories, and what they are played on. */
export { howMany } from './howMany.js';
export { type Happening, Play, type Versions } from './history.js';
export { lawHistories, lawVersions } from './lawKnot.js';
export { numbered, numberHistories } from './numbered.js';
export * from './played.js';
export {
  Both,
  plainReferences,
  referenceChoices,
  type ReferenceChoices,
  referenceHistories,
  referringKnot,
  referringKnots,
} from './referringKnots.js';
export { treeBeginning, treeHistories, treeKnot, treeRules } from './tree.js';
