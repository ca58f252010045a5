import type { MigrationInterface, QueryRunner } from 'typeorm';

/**
 * What records have under checks of unique values, so that a change of one record finds the others without reading
 * them.
 */
export class UniqueValues1764400000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      /* Values are hashed: they are personal data, and of any length. */
      create table unique_value (
        knot_id text not null references knot on delete cascade, check_id text not null, member text not null,
          record_key text collate "C" not null, value_hash text collate "C" not null,
        primary key (knot_id, check_id, member, record_key)
      );
      create index unique_value_of_check on unique_value (knot_id, check_id, member, value_hash);
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table unique_value');
  }
}
