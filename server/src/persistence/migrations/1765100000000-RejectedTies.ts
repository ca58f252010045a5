import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Each run asks for the ties whose records are rejected; they are few among many. */
export class RejectedTies1765100000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query('create index tie_rejected on tie (knot_id) where rejected is not null and not gone');
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop index tie_rejected');
  }
}
