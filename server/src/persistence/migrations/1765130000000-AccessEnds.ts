import type { MigrationInterface, QueryRunner } from 'typeorm';

/** When the consent, the certificate or the secret of a system ends. */
export class AccessEnds1765130000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query('alter table system add column access_ends_on date');
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table system drop column access_ends_on');
  }
}
