export * from './api/index.js';
export * from './knotFile.js';
export * from './system.js';
