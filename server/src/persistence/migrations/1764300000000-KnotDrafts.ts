import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Definitions under work. A knot that was never in force has version 0 and a draft. */
export class KnotDrafts1764300000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table knot_draft (
        knot_id text primary key references knot on delete cascade, definition jsonb not null,
          turned_down jsonb not null,
        revision int not null, based_on int not null, changed_by text not null,
          changed_at timestamptz not null default now()
      );
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table knot_draft; delete from knot where version_in_force = 0;');
  }
}
