import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What was seen of a member that is looked at before it is asked. */
export class SlotLooks1765090000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query('alter table due_slot add column seen text');
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table due_slot drop column seen');
  }
}
