import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Decisions are put off until a time, given to a colleague, and can be taken back until a run acts on them. */
export class DecisionHandling1764900000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table decision add column put_off_until timestamptz, add column given_to text,
        add column given_note text not null default '',
        /* The anchor as it was before it was decided, and its revision after that. */
        add column undo jsonb;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(
      `alter table decision drop column put_off_until, drop column given_to, drop column given_note, drop column undo`,
    );
  }
}
