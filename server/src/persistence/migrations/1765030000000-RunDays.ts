import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What the runs of each day came to; the runs that are still known are counted. */
export class RunDays1765030000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table run_day (
        knot_id text not null references knot on delete cascade, day date not null, runs int not null,
          troubled int not null, written int not null, failed int not null,
        primary key (knot_id, day)
      );
      insert into run_day
        select knot_id, (ended_at at time zone 'UTC')::date, count(*), count(*) filter (where state <> 'succeeded'),
          coalesce(sum(writes.written), 0), coalesce(sum(writes.failed), 0)
        from run left join lateral (
          select sum((tally -> 'written')::int) as written, sum((tally -> 'failed')::int) as failed
          from jsonb_each(progress -> 'tally') as each_member(member, tally)) writes on true
        where kind = 'run' and ended_at is not null and state is not null group by 1, 2;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table run_day');
  }
}
