import type { MigrationInterface, QueryRunner } from 'typeorm';

/** How much changes in members, hour by hour, so that it is noticed when nothing does. */
export class ReadHours1764995000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table read_hour (
        knot_id text not null references knot on delete cascade, member text not null, hour timestamptz not null,
          records int not null, primary key (knot_id, member, hour)
      );
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table read_hour');
  }
}
