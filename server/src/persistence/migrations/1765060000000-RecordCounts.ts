import type { MigrationInterface, QueryRunner } from 'typeorm';

/**
 * How many records are tied, and how many a filter leaves out, without counting them: each statement that changes them
 * adds a row with the difference, so that no two transactions wait for each other. The rows are added up when a run
 * begins.
 */
export class RecordCounts1765060000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table record_count (
        knot_id text not null references knot on delete cascade, member text not null, list text not null,
          difference int not null
      );
      create index record_count_of_knot on record_count (knot_id, list, member);
      insert into record_count select knot_id, member, 'tied', count(*) from tie where not gone group by 1, 2;
      insert into record_count select knot_id, member, 'filtered', count(*) from filtered_record group by 1, 2;

      create function count_ties() returns trigger language plpgsql as $$
      begin
        if tg_op = 'INSERT' then
          insert into record_count select knot_id, member, 'tied', count(*) from fresh where not gone group by 1, 2;
        elsif tg_op = 'DELETE' then
          insert into record_count select knot_id, member, 'tied', -count(*) from old_rows where not gone group by 1, 2;
        else
          insert into record_count select knot_id, member, 'tied', sum(difference) from (
            select knot_id, member, 1 as difference from fresh where not gone
            union all select knot_id, member, -1 from old_rows where not gone) changed
          group by 1, 2 having sum(difference) <> 0;
        end if;
        return null;
      end $$;
      create trigger tie_made after insert on tie referencing new table as fresh
        for each statement execute function count_ties();
      create trigger tie_changed after update on tie referencing new table as fresh old table as old_rows
        for each statement execute function count_ties();
      create trigger tie_ended after delete on tie referencing old table as old_rows
        for each statement execute function count_ties();

      create function count_filtered() returns trigger language plpgsql as $$
      begin
        if tg_op = 'INSERT' then
          insert into record_count select knot_id, member, 'filtered', count(*) from fresh group by 1, 2;
        else
          insert into record_count select knot_id, member, 'filtered', -count(*) from old_rows group by 1, 2;
        end if;
        return null;
      end $$;
      create trigger filtered_noted after insert on filtered_record referencing new table as fresh
        for each statement execute function count_filtered();
      create trigger filtered_forgotten after delete on filtered_record referencing old table as old_rows
        for each statement execute function count_filtered();
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop trigger filtered_forgotten on filtered_record; drop trigger filtered_noted on filtered_record;
      drop function count_filtered;
      drop trigger tie_ended on tie; drop trigger tie_changed on tie; drop trigger tie_made on tie;
      drop function count_ties;
      drop table record_count;
    `);
  }
}
