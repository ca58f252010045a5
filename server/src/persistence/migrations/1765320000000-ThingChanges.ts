import type { MigrationInterface, QueryRunner } from 'typeorm';

/** When something became of the things of a knot, so that what is counted of them is counted again. */
export class ThingChanges1765320000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table thing_change (
        id bigint generated always as identity,
        knot_id text not null references knot on delete cascade,
        at timestamptz not null,
        primary key (knot_id, id))`);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table thing_change');
  }
}
