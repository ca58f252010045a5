import { mkdtempSync, rmSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import type { DataSource } from 'typeorm';
import { Client } from 'pg';
import { openDatabase } from '../persistence/dataSource.js';
import { type Cluster, clusterFolder, startCluster } from '../start/cluster.js';

/** A real PostgreSQL for one test file, thrown away afterwards. */
export class TestDatabase {
  readonly #folder: string;
  readonly #cluster: Cluster;
  readonly #open: DataSource[] = [];
  #count = 0;

  private constructor(folder: string, cluster: Cluster) {
    this.#folder = folder;
    this.#cluster = cluster;
  }

  static async start(): Promise<TestDatabase> {
    const folder = clusterFolder(mkdtempSync(join(tmpdir(), 'anchor-knot-test-')), `test-${process.pid}-${Date.now()}`);
    return new TestDatabase(folder, await startCluster(folder, { throwAway: true }));
  }

  /** A new, empty, migrated database. */
  async fresh(): Promise<{ data: DataSource; url: string }> {
    const name = `t${(this.#count += 1)}`;
    const client = new Client({ connectionString: this.#cluster.url('postgres') });
    await client.connect();
    await client.query(`create database ${name}`);
    await client.end();
    const url = this.#cluster.url(name);
    const data = await openDatabase(url);
    this.#open.push(data);
    return { data, url };
  }

  async stop(): Promise<void> {
    for (const data of this.#open) if (data.isInitialized) await data.destroy();
    this.#cluster.stop();
    rmSync(this.#folder, { recursive: true, force: true });
  }
}
