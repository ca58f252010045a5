import {
  appendFileSync,
  existsSync,
  mkdirSync,
  readdirSync,
  readFileSync,
  rmSync,
  statSync,
  writeFileSync,
} from 'node:fs';
import { join } from 'node:path';
import type { FastifyInstance } from 'fastify';
import iconv from 'iconv-lite';
import type { generatePartners } from '../generator/partners.js';
import { escapeHtml, page, table } from '../kit/pages.js';
import { standInServer } from '../kit/serve.js';

export interface BayOptions {
  readonly folder: string;
  readonly seed: () => ReturnType<typeof generatePartners>;
}

const name = 'Loading Bay';
const plainName = /^[\w][\w .-]{0,80}$/;

/**
 * Loading Bay: a folder that others put files into, in whatever form their programs write; and a page to put in and
 * break some.
 */
export async function bayServer({ folder, seed }: BayOptions): Promise<FastifyInstance> {
  if (!existsSync(folder)) await fill(folder, seed());
  const app = await standInServer();
  const places = ['', 'leads'];
  const files = () =>
    places.flatMap((place) =>
      readdirSync(join(folder, place), { withFileTypes: true })
        .filter((entry) => entry.isFile())
        .map((entry) => ({ path: join(place, entry.name), ...statSync(join(folder, place, entry.name)) })),
    );
  const pathOf = (text: string): string | undefined => {
    const [file = '', place = ''] = text.split('/').toReversed();
    return places.includes(place) && plainName.test(file) ? join(folder, place, file) : undefined;
  };

  app.get('/', async (_, reply) => {
    const rows = files().map(
      ({ path, size, mtime }) =>
        `<tr><td><a href="/file?path=${encodeURIComponent(path)}">${escapeHtml(path)}</a></td><td>${size}
          bytes</td><td>${mtime.toISOString()}</td></tr>`,
    );
    return reply
      .type('text/html')
      .send(page(name, 'Files', `<p>${escapeHtml(folder)}</p>${table(['File', 'Size', 'Changed'], rows)}`));
  });
  app.get('/file', async (request, reply) => {
    const { path = '' } = request.query as { path?: string };
    const file = pathOf(path);
    if (!file || !existsSync(file))
      return reply
        .code(404)
        .type('text/html')
        .send(page(name, 'No such file', ''));
    const isText = !file.endsWith('.xlsx');
    const text = isText ? readFileSync(file, 'latin1') : 'A workbook cannot be shown here.';
    const shown = escapeHtml(iconv.decode(Buffer.from(text, 'latin1'), encodingOf(file)));
    const form = isText
      ? `<form method="post" action="/file"><input type="hidden" name="path" value="${escapeHtml(path)}"><textarea
        name="text" aria-label="Text" rows="24"
          spellcheck="false">${shown}</textarea><p><button>Save</button></p></form>`
      : `<p>${text}</p>`;
    return reply.type('text/html').send(page(name, path, form));
  });
  app.post('/file', async (request, reply) => {
    const { path = '', text = '' } = request.body as { path?: string; text?: string };
    const file = pathOf(path);
    if (file) writeFileSync(file, iconv.encode(text.replaceAll('\r\n', '\n'), encodingOf(file)));
    return reply.redirect('/');
  });
  app.get('/new', async (_, reply) =>
    reply.type('text/html').send(
      page(
        name,
        'New file',
        `<form method="post" action="/file"><p><label for="path">Name (in leads/ it is a delivery)</label><input
            id="path" name="path" value="leads/leads-by-hand.csv"></p><p><label for="text">Text</label><textarea
              id="text" name="text" rows="12">id,partner,name,interest,received\nL-9001,PA-101,Somebody
                New,repair,2026-11-23\n</textarea></p><p><button>Put it there</button></p></form>`,
      ),
    ),
  );
  app.get('/faults', async (_, reply) =>
    reply.type('text/html').send(
      page(
        name,
        'Faults',
        `<form method="post" action="/faults"><p><button name="do" value="bad rows">A delivery with bad rows</button>
            <button name="do" value="half">A delivery that is never finished</button> <button name="do" value="slow">A
              delivery that takes ten seconds to arrive</button> <button name="do" value="tidy">Remove what these
                made</button></p></form>`,
      ),
    ),
  );
  app.post('/faults', async (request, reply) => {
    const wanted = (request.body as { do?: string }).do;
    const at = (file: string): string => join(folder, 'leads', file);
    const header = 'id,partner,name,interest,received\n';
    if (wanted === 'bad rows')
      writeFileSync(
        at('leads-broken.csv'),
        `${header}L-8001,PA-102,One Good,repair,2026-11-22\nL-8002,PA-103\n,PA-104,No Key,repair,2026-11-22\n`,
      );
    if (wanted === 'half') writeFileSync(at('leads-unfinished.csv.part'), `${header}L-8101,PA-1`);
    if (wanted === 'slow') {
      writeFileSync(at('leads-slow.csv'), header);
      for (let line = 1; line <= 20; line += 1)
        setTimeout(
          () =>
            appendFileSync(
              at('leads-slow.csv'),
              `L-82${String(line).padStart(2, '0')},PA-105,Slow ${line},repair,2026-11-22\n`,
            ),
          line * 500,
        ).unref();
    }
    if (wanted === 'tidy')
      for (const file of ['leads-broken.csv', 'leads-unfinished.csv.part', 'leads-slow.csv'])
        rmSync(at(file), { force: true });
    return reply.redirect('/');
  });
  return app;
}

/** The partners' own program writes as Windows programs do. */
function encodingOf(file: string): string {
  return file.endsWith('partners.csv') ? 'windows-1252' : 'utf-8';
}

async function fill(folder: string, { partners, leads, prices }: ReturnType<typeof generatePartners>): Promise<void> {
  mkdirSync(join(folder, 'leads'), { recursive: true });
  const semicolons = [
    'Nummer;Firma;Ansprechpartner;Ort;Land;Zahlungsziel',
    ...partners.map((one) => [one.number, one.name, one.contact, one.town, one.country, one.terms].join(';')),
  ];
  writeFileSync(join(folder, 'partners.csv'), iconv.encode(`${semicolons.join('\r\n')}\r\n`, 'windows-1252'));
  for (let part = 0; part < 3; part += 1) {
    const lines = leads
      .slice(part * 30, part * 30 + 30)
      .map((one) => [one.id, one.partner, one.name, one.interest, one.received].join(','));
    writeFileSync(
      join(folder, 'leads', `leads-2026-11-${String(6 + part * 6).padStart(2, '0')}.csv`),
      `id,partner,name,interest,received\n${lines.join('\n')}\n`,
    );
  }
  writeFileSync(
    join(folder, 'visits.jsonl'),
    partners
      .slice(0, 40)
      .map(({ number, town, country }, index) => {
        const on = `2026-10-${String((index % 28) + 1).padStart(2, '0')}`;
        const notes = index % 3 === 0 ? ['brochure left', 'calls back'] : [];
        return `${JSON.stringify({ id: index + 1, partner: number, on, place: { town, country }, notes })}\n`;
      })
      .join(''),
  );
  // Only where a workbook is made: it takes long to load.
  const { default: ExcelJS } = await import('exceljs');
  const workbook = new ExcelJS.Workbook();
  workbook.addWorksheet('Read me').addRow(['Partner prices are net, in pounds.']);
  const sheet = workbook.addWorksheet('Partner prices');
  sheet.addRow(['Article', 'Description', 'Net price', 'Valid from']);
  for (const one of prices) sheet.addRow([one.article, one.description, one.price, one.validFrom]);
  await workbook.xlsx.writeFile(join(folder, 'partner-prices.xlsx'));
}
