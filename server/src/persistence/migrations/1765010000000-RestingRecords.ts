import type { MigrationInterface, QueryRunner } from 'typeorm';

/**
 * Untied records rest under a version of their knot, and are found by their keys and blocks. What people do to anchors
 * is counted, so that nothing rests that was matched meanwhile.
 */
export class RestingRecords1765010000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    // Keys and blocks go with their records, without foreign keys: those would be checked row by row.
    await runner.query(`
      alter table outside_record add column rests_under int;
      create index outside_record_resting on outside_record (knot_id, rests_under, member);
      create table outside_key (
        knot_id text not null, rule smallint not null, key_hash text collate "C" not null, member text not null,
          record_key text collate "C" not null,
        primary key (knot_id, rule, key_hash, member, record_key)
      );
      create index outside_key_of_record on outside_key (knot_id, member, record_key);
      create table outside_block (
        block bigint not null, knot_id text not null, member text not null, record_key text collate "C" not null,
        primary key (block, knot_id, member, record_key)
      );
      create index outside_block_of_record on outside_block (knot_id, member, record_key);
      create index verdict_of_other on verdict (knot_id, member_b, key_b);
      alter table knot add column acts bigint not null default 0;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table knot drop column acts;
      drop index verdict_of_other;
      drop table outside_block, outside_key;
      alter table outside_record drop column rests_under;
    `);
  }
}
