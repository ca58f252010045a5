import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Series of running numbers, how far each has come, and what was given to whom. */
export class Series1765310000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table series (
        id text primary key,
        description jsonb not null,
        revision int not null default 1,
        made_by text not null,
        made_at timestamptz not null);
      create table series_counter (
        series_id text not null references series on delete cascade,
        year int not null,
        next bigint not null,
        primary key (series_id, year));
      create table series_number (
        series_id text not null references series on delete cascade,
        year int not null,
        number bigint not null,
        text text not null,
        knot_id text not null,
        field text not null,
        anchor_id uuid,
        run_id uuid,
        taken_at timestamptz not null,
        given_at timestamptz,
        primary key (series_id, year, number));
      create unique index series_text on series_number (series_id, text);
      create index series_of_anchor on series_number (anchor_id);
      create index series_not_given on series_number (series_id, year) where given_at is null;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table series_number; drop table series_counter; drop table series');
  }
}
