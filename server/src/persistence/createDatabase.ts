import { Client } from 'pg';

/** Makes a database where there is none of that name. @param url of a database of the cluster, by its name */
export async function createDatabase(url: (name: string) => string, name: string): Promise<void> {
  const client = new Client({ connectionString: url('postgres') });
  await client.connect();
  try {
    const { rowCount } = await client.query('select 1 from pg_database where datname = $1', [name]);
    if (rowCount === 0) await client.query(`create database ${client.escapeIdentifier(name)}`);
  } finally {
    await client.end();
  }
}
