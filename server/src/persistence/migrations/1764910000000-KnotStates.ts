import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Knots are paused and ended by people; nothing runs then. */
export class KnotStates1764910000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table knot add column state text not null default 'running'
          check (state in ('running', 'paused', 'ended')),
        add column state_by text, add column state_at timestamptz;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table knot drop column state, drop column state_by, drop column state_at');
  }
}
