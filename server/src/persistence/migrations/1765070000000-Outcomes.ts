import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What records were told of other members, and which wait until their system acknowledges. */
export class Outcomes1765070000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table tie add column outcomes jsonb, add column unacknowledged_since timestamptz;
      create index tie_unacknowledged on tie (knot_id, member, unacknowledged_since)
        where unacknowledged_since is not null and not gone;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table tie drop column unacknowledged_since;
      alter table tie drop column outcomes;
    `);
  }
}
