import type { MigrationInterface, QueryRunner } from 'typeorm';

/** To which anchor newcomers were given, beside what was read of them: nothing that is long is written twice. */
export class StagedTies1765020000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      delete from staged_record;
      alter table staged_record drop column why, drop column is_new;
      create unlogged table staged_tie (
        run_id uuid not null, member text not null, record_key text collate "C" not null,
          anchor_id uuid not null, why text,
        primary key (run_id, member, record_key)
      );
      create index staged_tie_of_anchor on staged_tie (run_id, anchor_id);
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop table staged_tie;
      delete from staged_record;
      alter table staged_record add column why text, add column is_new boolean not null default false;
    `);
  }
}
