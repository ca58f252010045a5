import type { MigrationInterface, QueryRunner } from 'typeorm';

/**
 * Every record that was read is in a list: why one is outside of anchors, and which the filters leave out. A version
 * can wait for the end of a run.
 */
export class Accounts1764600000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table staged_record add column is_new boolean not null default false;
      alter table outside_record add column reason text not null default 'waiting';
      update outside_record set reason = 'rejected' where reading ? 'rejected';
      create index outside_record_by_reason on outside_record (knot_id, member, reason, record_key);
      create table filtered_record (
        knot_id text not null references knot on delete cascade, member text not null,
        record_key text collate "C" not null, title text not null,
        primary key (knot_id, member, record_key)
      );
      alter table knot add column coming_version int;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table knot drop column coming_version;
      drop table filtered_record;
      drop index outside_record_by_reason;
      alter table outside_record drop column reason;
      alter table staged_record drop column is_new;
    `);
  }
}
