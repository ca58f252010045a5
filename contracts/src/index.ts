export * from './api/drafts.js';
export * from './api/index.js';
export * from './api/records.js';
export * from './api/systems.js';
export * from './knotFile.js';
export * from './matchRules.js';
export * from './system/index.js';
