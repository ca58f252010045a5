import { DataSource } from 'typeorm';
import { entities } from './entities/entities.js';
import { serverMigrations } from './migrations.js';

/**
 * Our statements are many and short, and look rows up by their keys: to compile one, or to divide it among processes,
 * takes longer than to answer it, and what they look up is in memory.
 */
const planning = '-c jit=off -c max_parallel_workers_per_gather=0 -c random_page_cost=1.1';

/** The application's database. Migrations are applied by whoever starts first; the others wait for the lock. */
export function makeDataSource(url: string, poolSize = 10): DataSource {
  return new DataSource({
    type: 'postgres',
    url,
    entities,
    migrations: serverMigrations,
    migrationsTransactionMode: 'each',
    synchronize: false,
    logging: false,
    poolSize,
    applicationName: 'anchor-knot',
    extra: { options: planning },
  });
}

const migrationLock = 7_210_411;

export async function openDatabase(url: string, poolSize?: number): Promise<DataSource> {
  const dataSource = await makeDataSource(url, poolSize).initialize();
  const runner = dataSource.createQueryRunner();
  try {
    await runner.query('select pg_advisory_lock($1)', [migrationLock]);
    await dataSource.runMigrations();
  } finally {
    await runner.query('select pg_advisory_unlock($1)', [migrationLock]);
    await runner.release();
  }
  return dataSource;
}

/** Whether the database answers. */
export async function answers(data: DataSource): Promise<boolean> {
  return data.query('select 1').then(
    () => true,
    () => false,
  );
}
