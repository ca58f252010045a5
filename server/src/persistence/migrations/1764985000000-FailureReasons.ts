import type { MigrationInterface, QueryRunner } from 'typeorm';

/** Why something failed, apart from the record that it failed for: what fails alike is repaired together. */
export class FailureReasons1764985000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table decision add column reason text;
      update decision set reason = case
          when kind in ('refused', 'cannot be created', 'unusable') then fingerprint
          when kind = 'rejected' then replace(fingerprint, '|', '; ')
          when kind = 'unclear write' then 'nobody can tell whether it was created'
          else regexp_replace(substring(fingerprint from '[|](.*)$'), '“[^”]*”', '“…”', 'g') end
        where closed_at is null and kind in
          ('refused', 'cannot be created', 'unusable', 'rejected', 'unclear write', 'unreadable', 'unwritable');
      create index decision_by_reason on decision (knot_id, kind, member, field, md5(reason))
        where closed_at is null and reason is not null;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('alter table decision drop column reason');
  }
}
