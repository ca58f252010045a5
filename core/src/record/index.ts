export * from './path.js';
export * from './raw.js';
export * from './record.js';
export * from './reference.js';
export * from './shared.js';
export * from './wallTime.js';
