import type { MigrationInterface, QueryRunner } from 'typeorm';

/** How ties ended that are gone: by us, or what a person said shall follow. */
export class TieEnds1764400100000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table tie add column ended text;
      /* What was deleted before there were consequences has none. */
      update tie set ended = 'keep others' where gone;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table tie drop column ended');
  }
}
