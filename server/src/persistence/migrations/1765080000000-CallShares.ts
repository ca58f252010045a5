import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What knots use of the calls of a day, where they may use only a share of them. */
export class CallShares1765080000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table call_share (
        system_id text not null references system on delete cascade,
          knot_id text not null references knot on delete cascade, day date not null, used int not null,
          primary key (system_id, knot_id)
      );
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table call_share');
  }
}
