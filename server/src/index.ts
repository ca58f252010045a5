export { makeApp } from './api/app.js';
export { Knots } from './knots/knots.js';
export type { Installation, RunOptions } from './orchestration/installation.js';
export { runKnot } from './orchestration/runKnot.js';
export type { Store } from './orchestration/store.js';
export { openDatabase } from './persistence/dataSource.js';
export { PostgresStore } from './persistence/postgresStore.js';
export { type Cluster, clusterFolder, freePort, startCluster } from './start/cluster.js';
export { compareRecords } from './matching/compareRecords.js';
