import type { MigrationInterface, QueryRunner } from 'typeorm';

/** When knots run by themselves, what is due next, and what runs were started by. */
export class Timings1764960000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table knot_timing (
        knot_id text primary key references knot on delete cascade, timing jsonb not null, revision int not null,
          changed_by text not null, changed_at timestamptz not null
      );
      /* Of each purpose the earliest moment that nobody looked at yet. */
      create table due_slot (
        knot_id text not null references knot_timing on delete cascade, purpose text not null,
          due_at timestamptz not null, primary key (knot_id, purpose)
      );
      create index due_slot_at on due_slot (due_at);
      alter table knot add column resume_at timestamptz;
      /* A quiet run was started by nobody, and found nothing to do. */
      alter table run add column cause text not null default 'person', add column quiet boolean not null default false;
      /* The runs that what was delivered started, or joined. */
      alter table webhook_delivery add column runs uuid[] not null default '{}';
      create index run_loud on run (started_at desc) where not quiet;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table webhook_delivery drop column runs;
      alter table run drop column cause, drop column quiet;
      alter table knot drop column resume_at;
      drop table due_slot, knot_timing;
    `);
  }
}
