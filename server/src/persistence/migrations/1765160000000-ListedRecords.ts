import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What a complete listing has shown, for as long as its run goes: what is missing is found by the database. */
export class ListedRecords1765160000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create unlogged table listed_record (
        run_id uuid not null, member text not null, record_key text collate "C" not null,
        primary key (run_id, member, record_key)
      );
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table listed_record');
  }
}
