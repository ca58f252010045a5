import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Knots that were paused together are taken up together; those that somebody had paused before stay so. */
export class PausedTogether1765000000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query('alter table knot add column paused_together boolean not null default false');
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table knot drop column paused_together');
  }
}
