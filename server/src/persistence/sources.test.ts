/** The source itself: what is asked of the database is asked here. */
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';

const sources = join(import.meta.dirname, '..');
const files = readdirSync(sources, { recursive: true, encoding: 'utf8' }).filter(
  (name) => name.endsWith('.ts') && !/\.test\.ts$|^testing\//.test(name),
);

test('statements, repositories and connections to PostgreSQL are in persistence alone', () => {
  const asks = /\.query\(|getRepository|createQueryRunner|from 'pg'/;
  const asking = files.filter((name) => asks.test(readFileSync(join(sources, name), 'utf8')));
  expect(asking.length).toBeGreaterThan(20);
  expect(asking.filter((name) => !name.startsWith('persistence/'))).toEqual([]);
});
