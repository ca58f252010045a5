import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What things refer to, so that what refers to a thing is found. */
export class References1765140000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table anchor_reference (
        knot_id text not null,
        anchor_id uuid not null references anchor on delete cascade,
        field text not null,
        to_anchor uuid not null,
        primary key (anchor_id, field));
      create index anchor_reference_to on anchor_reference (to_anchor);
      create index decision_waiting on decision ((detail ->> 'knot')) where kind = 'waiting';
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop index decision_waiting; drop table anchor_reference');
  }
}
