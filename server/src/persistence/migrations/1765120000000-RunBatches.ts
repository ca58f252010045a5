import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Parts of a run, which any worker takes. */
export class RunBatches1765120000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      /* As what is staged and planned: after a crash of the database there is nothing to go on with. */
      create unlogged table run_batch (
        run_id uuid not null,
        place int not null,
        phase text not null,
        after_anchor uuid not null,
        up_to_anchor uuid not null,
        token int not null default 0,
        lease_until timestamptz,
        result jsonb,
        primary key (run_id, place));
      alter table run add column plan_context jsonb, add column so_far jsonb;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table run_batch; alter table run drop column plan_context, drop column so_far;');
  }
}
