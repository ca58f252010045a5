import { Client, Pool, type PoolConfig } from 'pg';
import type { Business } from '../generator/business.js';

/** The role with which other programs sign in to the ERP's database. */
export const erpRole = 'erp_exchange';

const schema = `
create type document_kind as enum ('quote', 'order', 'invoice');
create table debtor (
  debtor_no varchar(10) primary key, name varchar(60) not null, name2 varchar(60), street varchar(60), zip varchar(12),
    place varchar(40), country char(3) not null default 'GBR',
  phone varchar(30), mail varchar(120), vat_no varchar(20), payment_days int not null default 30,
    credit_limit numeric(12,2) not null default 0, blocked boolean not null default false,
  changed_at timestamptz not null default now()
);
create sequence debtor_number start 20001;
alter table debtor alter debtor_no set default 'D' || nextval('debtor_number');
create table article (
  article_no varchar(10) primary key, description varchar(80) not null, unit varchar(6) not null default 'pcs',
    price numeric(10,2) not null, stock int not null default 0, changed_at timestamptz not null default now()
);
create table staff (staff_no varchar(6) primary key, name varchar(60) not null, role varchar(30) not null,
  mail varchar(120));
create table sales_document (
  doc_no bigint primary key, debtor_no varchar(10) not null references debtor, kind document_kind not null,
    status varchar(20) not null, doc_date date not null,
  total numeric(12,2) not null default 0, changed_at timestamptz not null default now(),
  /* How many lines it has, where somebody tells. */
  line_count int,
  /* What is made by other programs comes from the shop. */
  channel varchar(4) not null default 'web'
);
create table sales_line (
  line_id bigint generated always as identity primary key, doc_no bigint not null references sales_document,
    position int not null, article_no varchar(10) not null references article,
  quantity numeric(10,3) not null, price numeric(10,2) not null,
    amount numeric(12,2) generated always as (round(quantity * price, 2)) stored,
  changed_at timestamptz not null default now()
);
create index sales_line_of_document on sales_line (doc_no);
/* The lines of what was ordered in the shop; more of them can be put in here. */
create view web_order_line as select line_id, doc_no, position, article_no, quantity, price, amount, changed_at
  from sales_line where doc_no in (select doc_no from sales_document where kind = 'order' and channel = 'web')
  with check option;
/* What the works build, and the jobs that this takes, each under what it is part of. */
create sequence job_number start 1001;
create table job (
  job_no varchar(10) primary key default 'J' || nextval('job_number'), parent_no varchar(10) references job,
    title varchar(80) not null, status varchar(20) not null default 'planned', foreman varchar(6) references staff,
  begins date, ends date, budget numeric(12,2), board_row varchar(12), changed_at timestamptz not null default now()
);
create table stock_movement (movement_id bigint generated always as identity primary key,
  article_no varchar(10) not null references article, quantity int not null, reason varchar(20) not null,
    booked_at timestamptz not null default now());
create function touch() returns trigger language plpgsql as $$ begin new.changed_at := clock_timestamp(); return new;
  end $$;
create trigger debtor_touch before update on debtor for each row execute function touch();
create trigger article_touch before update on article for each row execute function touch();
create function take_position() returns trigger language plpgsql as $$ begin
    new.position := coalesce((select max(position) from sales_line where doc_no = new.doc_no), 0) + 1;
    return new;
  end $$;
create trigger line_position before insert on sales_line for each row when (new.position is null)
  execute function take_position();
create trigger job_touch before update on job for each row execute function touch();
create trigger line_touch before update on sales_line for each row execute function touch();
create trigger document_touch before update on sales_document for each row execute function touch();
`;

/**
 * Makes the ERP's database and its role where they are missing, and fills them. @returns a pool as the database's owner
 */
export async function openErpDatabase(adminUrl: string, password: string, business: () => Business): Promise<Pool> {
  const pool = openPool({ connectionString: await createDatabase(adminUrl, 'coldharbour'), max: 4 });
  await ensureRole(pool, erpRole, password);
  const { rows } = await pool.query<{ there: boolean }>(`select to_regclass('public.debtor') is not null as there`);
  if (!rows[0]?.there) {
    await pool.query(schema);
    await fill(pool, business());
    await pool.query(
      `grant usage on schema public to ${erpRole}; grant usage on all sequences in schema public to ${erpRole}; grant
        select on all tables in schema public to ${erpRole}; grant insert, update on debtor, article, job,
          sales_document, sales_line to ${erpRole}; grant insert, update, delete on web_order_line to ${erpRole}`,
    );
  }
  return pool;
}

/** Connections that are opened as they are needed; one that breaks while nobody uses it is opened again. */
export function openPool(options: PoolConfig): Pool {
  return new Pool(options).on('error', () => undefined);
}

/** @returns the address of the database, which is made where it is missing */
export async function createDatabase(adminUrl: string, name: string): Promise<string> {
  const admin = new Client({ connectionString: adminUrl });
  await admin.connect();
  try {
    const { rowCount } = await admin.query('select 1 from pg_database where datname = $1', [name]);
    if (rowCount === 0) await admin.query(`create database ${name}`);
  } finally {
    await admin.end();
  }
  const url = new URL(adminUrl);
  url.pathname = `/${name}`;
  return url.href;
}

export async function ensureRole(pool: Pool, role: string, password: string): Promise<void> {
  const { rowCount } = await pool.query('select 1 from pg_roles where rolname = $1', [role]);
  const literal = `'${password.replaceAll("'", "''")}'`;
  await pool.query(
    rowCount === 0 ? `create role ${role} login password ${literal}` : `alter role ${role} password ${literal}`,
  );
}

async function fill(pool: Pool, { debtors, articles, documents, staff }: Business): Promise<void> {
  const insert = (table: string, columns: string, rows: readonly object[]) =>
    pool.query(
      `insert into ${table} (${columns}) select ${columns} from jsonb_populate_recordset(null::${table}, $1)`,
      [JSON.stringify(rows)],
    );
  await insert(
    'debtor',
    'debtor_no, name, name2, street, zip, place, country, phone, mail, vat_no, payment_days, ' +
      'credit_limit, blocked, changed_at',
    debtors.map((one) => ({
      ...one,
      debtor_no: one.number,
      vat_no: one.vatNumber,
      payment_days: one.paymentDays,
      credit_limit: one.creditLimit,
      changed_at: one.changedAt,
    })),
  );
  await insert(
    'article',
    'article_no, description, unit, price, stock',
    articles.map((one) => ({ ...one, article_no: one.number })),
  );
  await pool.query('update article set changed_at = $1', ['2026-06-01T06:00:00Z']);
  await insert(
    'staff',
    'staff_no, name, role, mail',
    staff.map((one) => ({ ...one, staff_no: one.number })),
  );
  await insert(
    'sales_document',
    'doc_no, debtor_no, kind, status, doc_date, total, line_count, changed_at, channel',
    documents.map((one) => ({
      doc_no: one.number,
      debtor_no: one.debtor,
      kind: one.kind,
      status: one.status,
      doc_date: one.date,
      total: one.lines.reduce((sum, { quantity, price }) => sum + Number(quantity) * Number(price), 0).toFixed(2),
      line_count: one.kind === 'order' && one.channel === 'web' ? one.lines.length : null,
      changed_at: `${one.date}T16:00:00Z`,
      channel: one.channel,
    })),
  );
  await insert(
    'sales_line',
    'doc_no, position, article_no, quantity, price, changed_at',
    documents.flatMap(({ number, lines, date }) =>
      lines.map((line, index) => ({
        ...line,
        doc_no: number,
        position: index + 1,
        article_no: line.article,
        changed_at: `${date}T16:00:00Z`,
      })),
    ),
  );
  await insert(
    'stock_movement',
    'article_no, quantity, reason, booked_at',
    documents
      .filter(({ kind }) => kind === 'order')
      .flatMap(({ lines, date }) =>
        lines.map((line) => ({
          article_no: line.article,
          quantity: -Number(line.quantity),
          reason: 'sale',
          booked_at: `${date}T09:00:00Z`,
        })),
      ),
  );
}
