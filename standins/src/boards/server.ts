import { timingSafeEqual } from 'node:crypto';
import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import type { BoardNote, BoardRow } from '../generator/work.js';
import { FaultSwitch, type Faults } from '../kit/faults.js';
import { RecordLog } from '../kit/recordLog.js';
import { registerRecordPages } from '../kit/recordPages.js';
import { standInServer } from '../kit/serve.js';

export interface BoardsOptions {
  readonly dataFile?: string;
  readonly rows: readonly BoardRow[];
  readonly notes?: readonly BoardNote[];
  readonly key: string;
  readonly faults?: Partial<Faults>;
  readonly faultSeed?: number;
}

interface Column {
  readonly id: string;
  readonly title: string;
  readonly type: 'text' | 'choice' | 'date' | 'number';
  readonly choices?: readonly string[];
}

const name = 'Pegline Boards';
const firstColumns: readonly Column[] = [
  { id: 'title', title: 'Title', type: 'text' },
  { id: 'stage', title: 'Stage', type: 'choice', choices: ['planned', 'building', 'to do', 'doing', 'done'] },
  { id: 'lead', title: 'Lead', type: 'text' },
  { id: 'start', title: 'Start', type: 'date' },
  { id: 'end', title: 'End', type: 'date' },
  { id: 'budget', title: 'Budget', type: 'number' },
  { id: 'client', title: 'Client', type: 'text' },
  { id: 'hours', title: 'Hours', type: 'number' },
  { id: 'ticket', title: 'Ticket', type: 'text' },
  { id: 'service', title: 'Service', type: 'text' },
];

/**
 * Pegline Boards: a key in a header of its own, numbered pages, values as people type them (`23.11.2026`, `1.500,00`),
 * columns that can be added, rows under rows, two workspaces; it cannot say what changed.
 */
export async function boardsServer(options: BoardsOptions): Promise<FastifyInstance> {
  const app = await standInServer();
  const faults = new FaultSwitch({ callsPerSecond: 60, ...options.faults }, options.faultSeed);
  const works = new RecordLog<BoardRow>(options.dataFile);
  if (works.size === 0) works.load(options.rows);
  const practice = new RecordLog<BoardRow>(options.dataFile === undefined ? undefined : `${options.dataFile}.practice`);
  if (practice.size === 0)
    practice.load(
      options.rows
        .slice(0, 11)
        .map((row) => ({ ...row, cells: { ...row.cells, title: `Practice: ${row.cells.title ?? ''}` } })),
    );
  /** Two workspaces; a header says which is meant. */
  const workspaces = {
    works: { name: 'Hazelmoor Glasshouse Works', rows: works },
    practice: { name: 'Practice boards', rows: practice },
  } as const;
  const rowsOf = (request: FastifyRequest): RecordLog<BoardRow> =>
    workspaces[request.headers['x-pegline-workspace'] === 'practice' ? 'practice' : 'works'].rows;
  const columns = new RecordLog<Column>(options.dataFile === undefined ? undefined : `${options.dataFile}.columns`);
  if (columns.size === 0) columns.load(firstColumns);
  /** What people write under rows of the works; nobody changes it. */
  const notes = new RecordLog<BoardNote>(options.dataFile === undefined ? undefined : `${options.dataFile}.notes`);
  if (notes.size === 0) notes.load(options.notes ?? []);
  const wanted = Buffer.from(options.key);
  const fail = (reply: FastifyReply, code: number, error: string) => reply.code(code).send({ ok: false, error });
  const shown = ({ id, parent, cells }: BoardRow) => ({
    row: id,
    parent,
    cells: Object.fromEntries(columns.all().map((column) => [column.id, cells[column.id] ?? null])),
  });

  /** @returns the row with the changes, or why it cannot be */
  function changed(rows: RecordLog<BoardRow>, known: BoardRow | undefined, input: unknown): BoardRow | string {
    const body =
      typeof input === 'object' && input !== null
        ? (input as { parent?: string | null; cells?: Record<string, unknown> })
        : {};
    const cells: Record<string, string | null> = { ...known?.cells };
    for (const [id, value] of Object.entries(body.cells ?? {})) {
      const column = columns.get(id);
      if (!column) return `there is no column "${id}"`;
      const text = value === null || value === '' ? null : String(value);
      const wrong = text === null ? undefined : wrongFor(column, text);
      if (wrong) return `${column.title}: ${wrong}`;
      cells[id] = text;
    }
    if (!cells.title) return 'Title: may not be empty';
    const parent = body.parent === undefined ? (known?.parent ?? null) : body.parent;
    if (parent !== null && !rows.get(parent)) return `there is no row "${parent}"`;
    const last = Math.max(4000, ...rows.all().map(({ id }) => Number(id.slice(1))));
    return { id: known?.id ?? `R${last + 1}`, parent, cells };
  }

  await app.register(
    async (api) => {
      api.addHook('onRequest', async (request, reply) => {
        const stopped = await faults.before(request, reply, (late) =>
          late.send({ ok: false, error: 'rate limit reached' }),
        );
        if (stopped) return stopped;
        const given = Buffer.from(String(request.headers['x-pegline-key'] ?? ''));
        if (faults.faults.refuseSignIn || given.length !== wanted.length || !timingSafeEqual(given, wanted))
          return fail(reply, 401, 'unknown key');
        return undefined;
      });
      api.get('/workspaces', async () => ({
        ok: true,
        workspaces: Object.entries(workspaces).map(([id, one]) => ({ id, title: one.name })),
      }));
      api.get('/columns', async () => ({ ok: true, columns: columns.all() }));
      api.post('/columns', async (request, reply) => {
        const { title, type } = (request.body ?? {}) as { title?: string; type?: string };
        if (!title?.trim() || !['text', 'choice', 'date', 'number'].includes(type ?? ''))
          return fail(reply, 400, 'a column needs a title and a type: text, choice, date or number');
        const id = title
          .trim()
          .toLowerCase()
          .replaceAll(/[^a-z0-9]+/g, '_');
        if (columns.get(id)) return fail(reply, 409, `there is a column "${id}" already`);
        columns.put({ id, title: title.trim(), type: type as Column['type'] });
        return reply.code(201).send({ ok: true, column: columns.get(id) });
      });
      api.get('/rows', async (request, reply) => {
        const { page = '1', size = '50', level } = request.query as { page?: string; size?: string; level?: string };
        const most = Math.min(100, Math.max(1, Number(size) || 50));
        const from = (Math.max(1, Number(page) || 1) - 1) * most;
        const found = rowsOf(request)
          .all()
          .filter(({ parent }) => level === undefined || (level === 'top' ? parent === null : parent !== null));
        if (faults.faults.brokenPages) return reply.type('application/json').send('{"ok":true,"rows":[{');
        return { ok: true, rows: found.slice(from, from + most).map(shown) };
      });
      api.get('/rows/:id', async (request, reply) => {
        const row = rowsOf(request).get((request.params as { id: string }).id);
        return row ? { ok: true, row: shown(row) } : fail(reply, 404, 'there is no such row');
      });
      api.post('/rows', async (request, reply) => {
        const rows = rowsOf(request);
        const result = changed(rows, undefined, request.body);
        if (typeof result === 'string') return fail(reply, 400, result);
        rows.put(result);
        return faults.drops(reply) ? reply : reply.code(201).send({ ok: true, row: shown(result) });
      });
      api.put('/rows/:id', async (request, reply) => {
        const rows = rowsOf(request);
        const known = rows.get((request.params as { id: string }).id);
        if (!known) return fail(reply, 404, 'there is no such row');
        const result = changed(rows, known, request.body);
        if (typeof result === 'string') return fail(reply, 400, result);
        rows.put(result);
        return faults.drops(reply) ? reply : { ok: true, row: shown(result) };
      });
      api.get('/notes', async (request) => {
        const { page = '1', size = '50' } = request.query as { page?: string; size?: string };
        const most = Math.min(100, Math.max(1, Number(size) || 50));
        const from = (Math.max(1, Number(page) || 1) - 1) * most;
        return { ok: true, notes: notes.all().slice(from, from + most) };
      });
      api.get('/notes/:id', async (request, reply) => {
        const note = notes.get((request.params as { id: string }).id);
        return note ? { ok: true, note } : fail(reply, 404, 'there is no such note');
      });
      api.post('/notes', async (request, reply) => {
        const { row = '', text = '', by = '', at, ref = null } = (request.body ?? {}) as Partial<BoardNote>;
        if (!works.get(row)) return fail(reply, 400, `there is no row "${row}"`);
        if (text.trim() === '') return fail(reply, 400, 'a note needs a text');
        const id = `N${notes.size + 1}`;
        notes.put({ id, row, text, by, at: at ?? new Date().toISOString(), ref });
        return faults.drops(reply) ? reply : reply.code(201).send({ ok: true, note: notes.get(id) });
      });
      api.delete('/rows/:id', async (request, reply) => {
        const rows = rowsOf(request);
        const { id } = request.params as { id: string };
        if (!rows.get(id)) return fail(reply, 404, 'there is no such row');
        if (rows.all().some(({ parent }) => parent === id)) return fail(reply, 409, 'there are rows under it');
        rows.remove(id);
        return faults.drops(reply) ? reply : { ok: true };
      });
    },
    { prefix: '/v2/boards/installations' },
  );

  faults.register(app, name);
  registerRecordPages(app, {
    name,
    noun: ['row', 'rows'],
    fields: [
      ...firstColumns.map(({ id, title }) => ({ name: id, label: title })),
      { name: 'under', label: 'Under (row)' },
    ],
    columns: ['Title', 'Under', 'Stage', 'Lead', 'Start', 'End'],
    list: async () =>
      works.all().map(({ id, parent, cells }) => ({
        id,
        cells: [cells.title, parent, cells.stage, cells.lead, cells.start, cells.end],
      })),
    show: async (id) => {
      const row = works.get(id);
      return row && { ...row.cells, under: row.parent };
    },
    save: async (id, { under, ...cells }) => {
      const known = id === undefined ? undefined : works.get(id);
      const parent = under === undefined ? known?.parent : under.trim() || null;
      const result = changed(works, known, { cells, parent });
      if (typeof result === 'string') return { refused: result };
      works.put(result);
      return { id: result.id };
    },
  });
  return app;
}

function wrongFor({ type, choices }: Column, text: string): string | undefined {
  if (type === 'choice' && choices && !choices.includes(text)) return `"${text}" is not one of ${choices.join(', ')}`;
  if (type === 'date' && !/^\d\d\.\d\d\.\d{4}$/.test(text)) return `"${text}" is not a date like 23.11.2026`;
  if (type === 'number' && !/^-?\d{1,3}(\.\d{3})*(,\d+)?$|^-?\d+(,\d+)?$/.test(text))
    return `"${text}" is not a number like 1.500,00`;
  return text.length > 500 ? 'has more than 500 characters' : undefined;
}
