export * from './api/index.js';
export * from './knotFile.js';
export * from './matchRules.js';
export * from './system/index.js';
