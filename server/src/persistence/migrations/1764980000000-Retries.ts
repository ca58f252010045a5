import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What runs could not do is tried again by itself. */
export class Retries1764980000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table retry (
        knot_id text primary key references knot on delete cascade, members text[] not null, attempts int not null,
          due_at timestamptz not null
      );
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table retry');
  }
}
