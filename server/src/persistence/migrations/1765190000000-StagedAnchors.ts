import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Newcomers have no anchor: they need no place in an index of anchors, and are walked through by their keys. */
export class StagedAnchors1765190000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop index staged_anchor;
      create index staged_anchor on staged_record (run_id, anchor_id) where anchor_id is not null;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop index staged_anchor;
      create index staged_anchor on staged_record (run_id, anchor_id);
    `);
  }
}
