/** When a knot runs by itself: which moments a schedule names, and what became of those that have passed. */
export * from './due.js';
export * from './problems.js';
export { quietUntil } from './quiet.js';
export * from './slots.js';
export * from './timing.js';
