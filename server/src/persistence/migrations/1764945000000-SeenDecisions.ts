import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What somebody has seen as it is, is not asked again: it is looked up whenever the same is found anew. */
export class SeenDecisions1764945000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create index decision_seen on decision (knot_id, identity) where choice ->> 'choose' = 'seen';
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop index decision_seen');
  }
}
