/** What is in a system's objects: their fields as declared or seen, how schemas differ, what values they hold. */
export * from './compareSchemas.js';
export * from './profile.js';
export * from './schema.js';
export { DistinctTally, FrequencyTally, unitHash } from './tally.js';
export { formatOf } from './valueFormat.js';
