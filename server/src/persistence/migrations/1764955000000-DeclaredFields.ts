import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What a system itself said of an object's fields when it was last asked, so that a change is noticed by asking. */
export class DeclaredFields1764955000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query('alter table object_profile add column declared jsonb, add column asked_at timestamptz');
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table object_profile drop column declared, drop column asked_at');
  }
}
