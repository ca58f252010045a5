export * from './conditions.js';
export * from './newMember.js';
export * from './readyMadeChecks.js';
export * from './ruleEdits.js';
