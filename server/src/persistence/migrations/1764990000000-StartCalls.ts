import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Addresses at which other programs start knots. */
export class StartCalls1764990000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table start_call (
        id uuid primary key, knot_id text not null references knot on delete cascade, name text not null,
          secret bytea not null, made_by text not null, made_at timestamptz not null default now(),
          last_at timestamptz, taken int not null default 0, refused int not null default 0
      );
      create index start_call_of_knot on start_call (knot_id);
      /* Calls that were taken, for as long as their time would let them be taken again. */
      create table start_call_taken (
        call_id uuid not null references start_call on delete cascade, message_id text not null,
          run_id uuid not null, taken_at timestamptz not null default now(), primary key (call_id, message_id)
      );
      create index start_call_taken_at on start_call_taken (taken_at);
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table start_call_taken, start_call');
  }
}
