import type { MigrationInterface, QueryRunner } from 'typeorm';

/**
 * What is known of systems beyond how to reach them: what they are, how their last test went, what is in their objects.
 */
export class SystemObjects1764100000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      /* Objects keep the order in which a person wrote them. */
      alter table system alter description type json using description::json;
      alter table system
        add note text not null default '', add environment text not null default 'production',
          add revision int not null default 1,
        add credential_id text, add probe jsonb, add probed_at timestamptz;
      /* A new version only when something differs from the one before. */
      create table object_schema (
        system_id text not null references system on delete cascade, object text not null, version int not null,
          seen_at timestamptz not null,
        schema jsonb not null, changes jsonb not null, primary key (system_id, object, version)
      );
      create table object_profile (
        system_id text not null references system on delete cascade, object text not null, state text not null,
          records bigint not null default 0,
        started_at timestamptz not null, ended_at timestamptz, words text, profile jsonb, primary key (system_id,
          object)
      );
      /* A person's word on what an object holds, where the guess was wrong. */
      create table object_nature (system_id text not null references system on delete cascade, object text not null,
        holds text not null, primary key (system_id, object));
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(
      `drop table object_nature, object_profile, object_schema; alter table system drop note, drop environment,
        drop revision, drop credential_id, drop probe,
          drop probed_at; alter table system alter description type jsonb using description::jsonb`,
    );
  }
}
