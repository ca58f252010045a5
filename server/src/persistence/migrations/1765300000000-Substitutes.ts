import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What somebody has said once of things and values that references cannot go by. */
export class Substitutes1765300000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      create table substitute (
        id bigint generated always as identity primary key,
        knot_id text not null references knot on delete cascade,
        way jsonb not null,
        value text,
        anchor_id uuid,
        stands uuid,
        said_by text not null,
        said_at timestamptz not null,
        check ((value is null) <> (anchor_id is null)),
        check (value is not null or stands is not null));
      create unique index substitute_value on substitute (knot_id, way, md5(value)) where value is not null;
      create unique index substitute_anchor on substitute (knot_id, way, anchor_id) where anchor_id is not null;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query('drop table substitute');
  }
}
