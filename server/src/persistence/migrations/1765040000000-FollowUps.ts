import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Mails about single records. Runs of before are not told of. */
export class FollowUps1765040000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table follow_up (
        id uuid primary key, follow_up jsonb not null, revision int not null, changed_by text not null,
          changed_at timestamptz not null
      );
      alter table notice_message add column follow_up_id uuid references follow_up on delete set null;
      create index notice_message_of_follow_up on notice_message (follow_up_id, created_at)
        where follow_up_id is not null;
      alter table run add column is_followed boolean not null default true;
      alter table run alter column is_followed set default false;
      create index run_unfollowed on run (ended_at) where not is_followed;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table run drop column is_followed;
      alter table notice_message drop column follow_up_id;
      drop table follow_up;
    `);
  }
}
