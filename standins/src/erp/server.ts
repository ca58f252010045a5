import type { FastifyInstance } from 'fastify';
import type { Pool } from 'pg';
import { type Faults, FaultSwitch } from '../kit/faults.js';
import { page, type PageField } from '../kit/pages.js';
import { registerRecordPages } from '../kit/recordPages.js';
import { standInServer } from '../kit/serve.js';
import { erpRole } from './database.js';
import { registerJobPages } from './jobPages.js';
import { registerODataFace } from './odata.js';

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
    now: `select exists (select from pg_attribute where attrelid = 'debtor'::regclass and attname = 'telephone'
      and not attisdropped) as is_on`,
  },
  newField: {
    label: 'Debtors have a dunning level',
    on: 'alter table debtor add dunning_level int',
    off: 'alter table debtor drop dunning_level',
    now: `select exists (select from pg_attribute where attrelid = 'debtor'::regclass and attname = 'dunning_level'
      and not attisdropped) as is_on`,
  },
} as const;

export interface ErpOptions {
  readonly pool: Pool;
  /** Of the OData face; the database has its own roles. */
  readonly secret: string;
  readonly faults?: Partial<Faults>;
}

/**
 * Coldharbour ERP: its records are in a database that other programs may use, and behind an OData face; these are the
 * pages for people.
 */
export async function erpServer({ pool, secret, faults: startFaults }: ErpOptions): Promise<FastifyInstance> {
  const app = await standInServer();
  const odataFaults = new FaultSwitch(startFaults);
  await registerODataFace(app, { pool, id: erpRole, secret, faults: odataFaults });
  odataFaults.register(app, `${name}, OData`, '/odata-faults');

  registerRecordPages(app, {
    name,
    noun: ['debtor', 'debtors'],
    fields,
    columns: ['Name', 'Place', 'Mail', 'Phone', 'Changed'],
    list: async () => {
      const { rows } = await pool.query<Record<string, unknown> & { debtor_no: string }>(
        'select * from debtor order by debtor_no',
      );
      return rows.map((row) => ({
        id: row.debtor_no,
        cells: [
          row.name,
          row.place,
          row.mail,
          row.phone ?? row.telephone,
          row.changed_at instanceof Date ? row.changed_at.toISOString() : '',
        ],
      }));
    },
    show: async (id) => {
      const { rows } = await pool.query<Record<string, unknown>>('select * from debtor where debtor_no = $1', [id]);
      return rows[0] && { ...rows[0], phone: rows[0].phone ?? rows[0].telephone };
    },
    save: async (id, form) => {
      const { rows } = await pool.query<{ name: string }>(
        `select attname as name from pg_attribute where attrelid = 'debtor'::regclass and attname = 'phone'
          and not attisdropped`,
      );
      const phone = rows.length > 0 ? 'phone' : 'telephone';
      const given = fields.flatMap(({ name: field }) =>
        form[field] === undefined
          ? []
          : [[field === 'phone' ? phone : field, form[field] === '' ? null : form[field]] as const],
      );
      const values = given.map(([, value]) => value);
      const text =
        id === undefined
          ? `insert into debtor (${given.map(([column]) => column).join(', ')})
            values (${given.map((_, index) => `$${index + 1}`).join(', ')}) returning debtor_no`
          : `update debtor set ${given.map(([column], index) => `${column} = $${index + 1}`).join(', ')}
            where debtor_no = $${given.length + 1} returning debtor_no`;
      try {
        const result = await pool.query<{ debtor_no: string }>(text, id === undefined ? values : [...values, id]);
        return { id: result.rows[0]?.debtor_no ?? '' };
      } catch (error) {
        return { refused: (error as Error).message };
      }
    },
  });

  registerJobPages(app, name, pool);

  app.get('/faults', async (_, reply) => {
    const boxes = await Promise.all(
      Object.entries(faults).map(async ([fault, { label, now }]) => {
        const { rows } = await pool.query<{ is_on: boolean }>(now);
        return `<tr><th><label for="${fault}">${label}</label></th><td><input type="checkbox" name="${fault}"
          id="${fault}"${rows[0]?.is_on ? ' checked' : ''}></td></tr>`;
      }),
    );
    return reply.type('text/html').send(
      page(
        name,
        'Faults',
        `<p>What its database does wrong on purpose,
            from the next statement on. <a href="/odata-faults">What its OData face does wrong</a></p><form
              method="post" action="/faults"><table>${boxes.join('')}</table><p><button>Switch</button></p></form>`,
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
    if (body.refuseSignIn === 'on')
      await pool.query('select pg_terminate_backend(pid) from pg_stat_activity where usename = $1', [erpRole]);
    return reply.redirect('/faults');
  });
  app.addHook('onClose', async () => void (await pool.end()));
  return app;
}
