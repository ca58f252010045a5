import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Records outside of anchors are counted as they come and go, list by list, as tied ones are. */
export class OutsideCounts1765200000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      insert into record_count
        select knot_id, member, coalesce(verdict, reason), count(*) from outside_record group by 1, 2, 3;

      create function count_outside() returns trigger language plpgsql as $$
      begin
        if tg_op = 'INSERT' then
          insert into record_count
            select knot_id, member, coalesce(verdict, reason), count(*) from fresh group by 1, 2, 3;
        elsif tg_op = 'DELETE' then
          insert into record_count
            select knot_id, member, coalesce(verdict, reason), -count(*) from old_rows group by 1, 2, 3;
        else
          insert into record_count select knot_id, member, list, sum(difference) from (
            select knot_id, member, coalesce(verdict, reason) as list, 1 as difference from fresh
            union all select knot_id, member, coalesce(verdict, reason), -1 from old_rows) changed
          group by 1, 2, 3 having sum(difference) <> 0;
        end if;
        return null;
      end $$;
      create trigger outside_put after insert on outside_record referencing new table as fresh
        for each statement execute function count_outside();
      create trigger outside_changed after update on outside_record referencing new table as fresh
        old table as old_rows for each statement execute function count_outside();
      create trigger outside_dropped after delete on outside_record referencing old table as old_rows
        for each statement execute function count_outside();
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      drop trigger outside_dropped on outside_record;
      drop trigger outside_changed on outside_record;
      drop trigger outside_put on outside_record;
      drop function count_outside;
      delete from record_count where list not in ('tied', 'filtered');
    `);
  }
}
