import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { Pool } from 'pg';
import { page, type PageField, recordForm, recordTable } from '../kit/pages.js';
import { standInServer } from '../kit/serve.js';
import { erpRole } from './database.js';

const name = 'Coldharbour ERP';
const fields: readonly PageField[] = [
  { name: 'name', label: 'Name' },
  { name: 'name2', label: 'Name 2' },
  { name: 'street', label: 'Street' },
  { name: 'zip', label: 'Zip' },
  { name: 'place', label: 'Place' },
  { name: 'country', label: 'Country' },
  { name: 'phone', label: 'Phone' },
  { name: 'mail', label: 'Mail' },
  { name: 'vat_no', label: 'VAT number' },
  { name: 'credit_limit', label: 'Credit limit' },
];

/** What the ERP does wrong on purpose: each is a change of its database that an administrator there could make. */
const faults = {
  refuseSignIn: {
    label: 'Every sign-in is refused',
    on: `alter role ${erpRole} nologin`,
    off: `alter role ${erpRole} login`,
    now: `select not rolcanlogin as is_on from pg_roles where rolname = '${erpRole}'`,
  },
  readOnly: {
    label: 'Debtors may only be read',
    on: `revoke insert, update on debtor from ${erpRole}`,
    off: `grant insert, update on debtor to ${erpRole}`,
    now: `select not has_table_privilege('${erpRole}', 'debtor', 'update') as is_on`,
  },
  renamedField: {
    label: 'The phone of debtors is called telephone',
    on: 'alter table debtor rename phone to telephone',
    off: 'alter table debtor rename telephone to phone',
    now: `select exists (select from pg_attribute where attrelid = 'debtor'::regclass and attname = 'telephone' and not attisdropped) as is_on`,
  },
  newField: {
    label: 'Debtors have a dunning level',
    on: 'alter table debtor add dunning_level int',
    off: 'alter table debtor drop dunning_level',
    now: `select exists (select from pg_attribute where attrelid = 'debtor'::regclass and attname = 'dunning_level' and not attisdropped) as is_on`,
  },
} as const;

/** Coldharbour ERP: its records are in a database that other programs may use; these are the pages for people. */
export async function erpServer({ pool }: { readonly pool: Pool }): Promise<FastifyInstance> {
  const app = await standInServer();

  app.get('/', async (request, reply) => {
    const { rows } = await pool.query<Record<string, unknown> & { debtor_no: string }>('select * from debtor order by debtor_no');
    const shown = rows.map((row) => ({
      id: row.debtor_no,
      cells: [row.name, row.place, row.mail, row.phone ?? row.telephone, row.changed_at instanceof Date ? row.changed_at.toISOString() : ''],
    }));
    return reply.type('text/html').send(page(name, 'Debtors', recordTable((request.query as { q?: string }).q ?? '', ['Name', 'Place', 'Mail', 'Phone', 'Changed'], shown)));
  });
  app.get('/new', async (_, reply) => reply.type('text/html').send(page(name, 'New debtor', recordForm(fields, {}, '/records'))));
  app.get('/records/:id', async (request, reply) => {
    const { id } = request.params as { id: string };
    const { rows } = await pool.query<Record<string, unknown>>('select * from debtor where debtor_no = $1', [id]);
    if (!rows[0])
      return reply
        .code(404)
        .type('text/html')
        .send(page(name, 'No such debtor', ''));
    return reply.type('text/html').send(page(name, `Debtor ${id}`, recordForm(fields, { ...rows[0], phone: rows[0].phone ?? rows[0].telephone }, `/records/${id}`)));
  });
  const save = async (request: FastifyRequest, reply: FastifyReply, id: string | undefined) => {
    const body = request.body as Record<string, string>;
    const { rows } = await pool.query<{ name: string }>(`select attname as name from pg_attribute where attrelid = 'debtor'::regclass and attnum > 0 and not attisdropped`);
    const columns = new Set(rows.map((row) => row.name));
    const given = fields.flatMap(({ name: field }) => {
      const column = field === 'phone' && !columns.has('phone') ? 'telephone' : field;
      return body[field] === undefined ? [] : [[column, body[field] === '' ? null : body[field]] as const];
    });
    const values = given.map(([, value]) => value);
    try {
      const text =
        id === undefined
          ? `insert into debtor (${given.map(([column]) => column).join(', ')}) values (${given.map((_, index) => `$${index + 1}`).join(', ')}) returning debtor_no`
          : `update debtor set ${given.map(([column], index) => `${column} = $${index + 1}`).join(', ')} where debtor_no = $${given.length + 1} returning debtor_no`;
      const result = await pool.query<{ debtor_no: string }>(text, id === undefined ? values : [...values, id]);
      return reply.redirect(`/records/${result.rows[0]?.debtor_no ?? ''}`);
    } catch (error) {
      return reply
        .code(422)
        .type('text/html')
        .send(page(name, 'Not saved', `<p>${String((error as Error).message).replaceAll('<', '&lt;')}</p>`));
    }
  };
  app.post('/records', async (request, reply) => save(request, reply, undefined));
  app.post('/records/:id', async (request, reply) => save(request, reply, (request.params as { id: string }).id));

  app.get('/faults', async (_, reply) => {
    const boxes = await Promise.all(
      Object.entries(faults).map(async ([fault, { label, now }]) => {
        const { rows } = await pool.query<{ is_on: boolean }>(now);
        return `<tr><th><label for="${fault}">${label}</label></th><td><input type="checkbox" name="${fault}" id="${fault}"${rows[0]?.is_on ? ' checked' : ''}></td></tr>`;
      }),
    );
    return reply
      .type('text/html')
      .send(
        page(
          name,
          'Faults',
          `<p>What this system does wrong on purpose, from the next call on.</p><form method="post" action="/faults"><table>${boxes.join('')}</table><p><button>Switch</button></p></form>`,
        ),
      );
  });
  app.post('/faults', async (request, reply) => {
    const body = request.body as Record<string, string>;
    for (const [fault, { on, off, now }] of Object.entries(faults)) {
      const { rows } = await pool.query<{ is_on: boolean }>(now);
      const wanted = body[fault] === 'on';
      if (wanted !== rows[0]?.is_on) await pool.query(wanted ? on : off);
    }
    // Whoever is signed in would stay so: open connections are ended.
    if (body.refuseSignIn === 'on') await pool.query('select pg_terminate_backend(pid) from pg_stat_activity where usename = $1', [erpRole]);
    return reply.redirect('/faults');
  });
  app.addHook('onClose', async () => void (await pool.end()));
  return app;
}
