import type { MigrationInterface, QueryRunner } from 'typeorm';

/** A description with each of its objects changed; the order of objects is kept. */
function withObjects(change: string): string {
  return `(select json_object_agg(part.key, case part.key when 'objects'
      then coalesce((select json_object_agg(object.key, (object.value::jsonb ${change})::json)
        from json_each(part.value) object), '{}') else part.value end)
    from json_each(description) part)`;
}

/** Where people see records is part of a system's description, object by object, and no longer guessed from a host. */
export class PagesOfObjects1764940000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      update system set description = ${withObjects(`|| '{"recordPage": "/records/{key}"}'`)}
        where page_address is not null;
      update system set description = (
          select json_object_agg(part.key, part.value)
          from (select * from json_each(description) union all select 'page', to_json(page_address)) part)
        where page_address is not null;
      alter table system drop column page_address;
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(`
      alter table system add column page_address text;
      update system set page_address = description ->> 'page';
      update system set description = ${withObjects(`- 'recordPage' - 'listPage'`)};
      update system set description = (
          select json_object_agg(part.key, part.value) from json_each(description) part where part.key <> 'page');
    `);
  }
}
