/** The engine: pure functions over records. No input or output, no clock, no randomness that is not passed in. */
export * from './editing/index.js';
export * from './expression/index.js';
export * from './identity/index.js';
export * from './definition/index.js';
export * from './mapping/index.js';
export * from './merge/index.js';
export * from './plan/index.js';
export * from './proposal/index.js';
export * from './record/index.js';
export * from './schedule/index.js';
export * from './schema/index.js';
export * from './series/index.js';
export * from './trying/index.js';
