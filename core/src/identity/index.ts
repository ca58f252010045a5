export { type KeyNormalisation, keyOf, type KeyRule } from './keyRule.js';
export { type KnownAnchors, matchByKey, type MatchDoubt, type Matching, type Newcomer } from './matchByKey.js';
