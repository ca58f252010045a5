import type { MigrationInterface, QueryRunner } from 'typeorm';

/** How often what a decision is about was tried in vain. */
export class Attempts1765110000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table decision add column attempts int not null default 0;
      create index decision_tried_again on decision (knot_id, identity) where choice ->> 'choose' = 'try again';
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop index decision_tried_again;
      alter table decision drop column attempts;
    `);
  }
}
