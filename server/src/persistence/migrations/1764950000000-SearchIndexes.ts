import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Anchors are found by any part of their title or of a record's key, however many there are. */
export class SearchIndexes1764950000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create extension if not exists pg_trgm;
      create index anchor_title_parts on anchor using gin (lower(title) gin_trgm_ops);
      create index tie_key_parts on tie using gin (lower(record_key) gin_trgm_ops);
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop index anchor_title_parts; drop index tie_key_parts');
  }
}
