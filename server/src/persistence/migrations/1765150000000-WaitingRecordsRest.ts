import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What records that wait for a person are in doubt about: they rest until something of it changes. */
export class WaitingRecordsRest1765150000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table outside_doubt (
        knot_id text not null, topic text collate "C" not null, member text not null,
          record_key text collate "C" not null, anchor_id uuid,
        primary key (knot_id, topic, member, record_key)
      );
      create index outside_doubt_of_record on outside_doubt (knot_id, member, record_key);
      create index outside_doubt_of_anchor on outside_doubt (anchor_id) where anchor_id is not null;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop table outside_doubt;
      update outside_record set rests_under = null where reason = 'waiting';
    `);
  }
}
