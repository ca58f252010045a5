import type { MigrationInterface, QueryRunner } from 'typeorm';

/** When the consent to a system ends, as its answers say, and since when they say so. */
export class ConsentEnds1765180000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table system add column consent_ends_at timestamptz, add column consent_end_said_at timestamptz;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table system drop column consent_ends_at, drop column consent_end_said_at');
  }
}
