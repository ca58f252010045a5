/** Everything that crosses HTTP between the web client and the server. Times are ISO 8601 in UTC. */
export * from './anchors.js';
export * from './causes.js';
export * from './decisionKinds.js';
export * from './schemaChangeWords.js';
export * from './decisions.js';
export * from './drafts.js';
export * from './events.js';
export * from './journal.js';
export * from './knots.js';
export * from './matches.js';
export * from './members.js';
export * from './problem.js';
export * from './records.js';
export * from './runs.js';
export * from './session.js';
export * from './systems.js';
export * from './watch.js';
export type { DeepReadonly } from './json.js';
