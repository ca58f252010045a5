import type { MigrationInterface, QueryRunner } from 'typeorm';

/** When the certificate of a system ends, as it was seen last. */
export class Certificates1765170000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table system add column certificate_ends_at timestamptz, add column certificate_seen_at timestamptz;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table system drop column certificate_ends_at, drop column certificate_seen_at');
  }
}
