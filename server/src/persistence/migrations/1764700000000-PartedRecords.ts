import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Anchors remember the records that were taken from them: what is created there is another record. */
export class PartedRecords1764700000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query('alter table anchor add column parted jsonb');
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table anchor drop column parted');
  }
}
