import type { FastifyInstance } from 'fastify';
import type { Pool } from 'pg';
import { createDatabase, ensureRole, openPool } from '../erp/database.js';
import type { Business } from '../generator/business.js';
import { escapeHtml, page, table, tableRow } from '../kit/pages.js';
import { standInServer } from '../kit/serve.js';

const name = 'Granary';
/** May read, and nothing else. */
export const granaryRole = 'granary_reader';

const schema = `
create table calendar_day (day date primary key, week int not null, month int not null);
create table sales_fact (day date not null references calendar_day, debtor_no text not null, article_no text not null,
  quantity numeric not null, revenue numeric(12,2) not null, primary key (day, debtor_no, article_no));
create table debtor_dimension (debtor_no text primary key, name text not null, country text not null, first_sale date);
create table article_dimension (article_no text primary key, description text not null);
create table visit_fact (visit_id bigint generated always as identity primary key,
  day date not null references calendar_day, debtor_no text not null references debtor_dimension,
    staff_no text not null);
create index on visit_fact (debtor_no);
create index on sales_fact (debtor_no);
create view revenue_by_debtor as
  select d.debtor_no, d.name, d.country, sum(f.revenue) as revenue, count(distinct f.day) as days_with_sales,
    max(f.day) as last_sale from debtor_dimension d join sales_fact f using (debtor_no) group by 1, 2, 3;
`;

/** Makes the warehouse where it is missing, from what the ERP has sold. */
export async function openGranaryDatabase(adminUrl: string, password: string, business: () => Business): Promise<Pool> {
  const pool = openPool({ connectionString: await createDatabase(adminUrl, 'granary'), max: 3 });
  await ensureRole(pool, granaryRole, password);
  const { rows } = await pool.query<{ there: boolean }>(`select to_regclass('public.sales_fact') is not null as there`);
  if (rows[0]?.there) return pool;
  await pool.query(schema);
  const { debtors, articles, documents, visits } = business();
  const sold = documents
    .filter(({ kind }) => kind === 'invoice')
    .flatMap(({ debtor, date, lines }) =>
      lines.map(({ article, quantity, price }) => ({ debtor, day: date, article, quantity, price })),
    );
  await pool.query(
    `insert into calendar_day select day, extract(week from day), extract(month from day)
      from generate_series('2026-01-01'::date, '2026-12-31', '1 day') day`,
  );
  await pool.query(
    `insert into article_dimension select number, description from jsonb_to_recordset($1) as r(number text,
      description text)`,
    [JSON.stringify(articles)],
  );
  await pool.query(
    `insert into debtor_dimension select number, name, country from jsonb_to_recordset($1) as r(number text, name text,
      country text)`,
    [JSON.stringify(debtors)],
  );
  await pool.query(
    `insert into sales_fact select day, debtor, article, sum(quantity), sum(quantity * price)
      from jsonb_to_recordset($1) as r(day date, debtor text, article text, quantity numeric, price numeric)
        group by 1, 2, 3`,
    [JSON.stringify(sold)],
  );
  await pool.query(
    `insert into visit_fact (day, debtor_no, staff_no) select day, debtor, staff
      from jsonb_to_recordset($1) as r(day date, debtor text, staff text)`,
    [JSON.stringify(visits)],
  );
  await pool.query(
    'update debtor_dimension d set first_sale = (select min(day) from sales_fact f where f.debtor_no = d.debtor_no)',
  );
  await pool.query(
    `grant usage on schema public to ${granaryRole}; grant select
      on all tables in schema public to ${granaryRole}; alter role ${granaryRole}
        set default_transaction_read_only = on`,
  );
  await pool.query('analyze');
  return pool;
}

/** Granary: a reporting warehouse. Its page shows what is in it; nobody edits a warehouse by hand. */
export async function granaryServer({ pool }: { readonly pool: Pool }): Promise<FastifyInstance> {
  const app = await standInServer();
  app.get('/', async (_, reply) => {
    const { rows } = await pool.query<Record<string, unknown>>(
      'select * from revenue_by_debtor order by revenue desc limit 100',
    );
    const shown = (value: unknown): unknown => (value instanceof Date ? value.toISOString().slice(0, 10) : value);
    const body = rows.map((row) =>
      tableRow(
        ['debtor_no', 'name', 'country', 'revenue', 'last_sale'].map((column) => escapeHtml(shown(row[column]))),
      ),
    );
    return reply
      .type('text/html')
      .send(page(name, 'Revenue by debtor', table(['Debtor', 'Name', 'Country', 'Revenue', 'Last sale'], body)));
  });
  app.addHook('onClose', async () => void (await pool.end()));
  return app;
}
