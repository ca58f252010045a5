import type { MigrationInterface, QueryRunner } from 'typeorm';

/** How much changes in members, hour by hour, so that it is noticed when nothing does; and what was read by name. */
export class ReadHours1764995000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table read_hour (
        knot_id text not null references knot on delete cascade, member text not null, hour timestamptz not null,
          records int not null, primary key (knot_id, member, hour)
      );
      /* When the last run began that read, by their keys, the records that the member had told of. */
      alter table member_cursor add column told_read_at timestamptz;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table member_cursor drop column told_read_at; drop table read_hour');
  }
}
