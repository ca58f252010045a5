import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { addPage, escapeHtml, page, type PageField, recordForm, recordTable } from './pages.js';

export interface RecordPages {
  /** Of the system. */
  readonly name: string;
  /** What one record is called, and many. */
  readonly noun: readonly [one: string, many: string];
  readonly fields: readonly PageField[];
  readonly columns: readonly string[];
  /** Where its pages are, beside those of the records that the stand-in mostly holds: `/orders`. */
  readonly under?: string;
  readonly list: () => Promise<readonly { readonly id: string; readonly cells: readonly unknown[] }[]>;
  /** The values of the fields of a record; `undefined` when there is none of that id. */
  readonly show: (id: string) => Promise<Readonly<Record<string, unknown>> | undefined>;
  /** Takes a record away, where that can be done. */
  readonly remove?: (id: string) => Promise<void>;
  /** Makes a record (without an id) or changes one. @returns its id, or why it cannot be */
  readonly save: (
    id: string | undefined,
    form: Readonly<Record<string, string>>,
  ) => Promise<{ readonly id: string } | { readonly refused: string }>;
}

/** The pages of a stand-in on which people see and edit its records. */
export function registerRecordPages(
  app: FastifyInstance,
  { name, noun: [one, many], fields, columns, under = '', list, show, save, remove }: RecordPages,
): void {
  const html = (reply: FastifyReply, title: string, body: string, code = 200): FastifyReply =>
    reply
      .code(code)
      .type('text/html')
      .send(page(name, title, body));
  const capital = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);
  if (under !== '') addPage(name, under, capital(many));
  app.get(under || '/', async (request, reply) => {
    const sought = (request.query as { q?: string }).q ?? '';
    const add = under === '' ? '' : `<p><a href="${under}/new">New ${one}</a></p>`;
    return html(reply, capital(many), add + recordTable(sought, columns, await list(), `${under}/records`));
  });
  app.get(`${under}/new`, async (_, reply) => html(reply, `New ${one}`, recordForm(fields, {}, `${under}/records`)));
  app.get(`${under}/records/:id`, async (request, reply) => {
    const { id } = request.params as { id: string };
    const values = await show(id);
    const at = `${under}/records/${encodeURIComponent(id)}`;
    const removal = remove ? `<form method="post" action="${at}/delete"><p><button>Delete</button></p></form>` : '';
    return values
      ? html(reply, `${capital(one)} ${id}`, recordForm(fields, values, at) + removal)
      : html(reply, `No such ${one}`, '', 404);
  });
  const post = async (request: FastifyRequest, reply: FastifyReply): Promise<FastifyReply> => {
    const { id } = request.params as { id?: string };
    if (id !== undefined && !(await show(id))) return html(reply, `No such ${one}`, '', 404);
    const result = await save(id, request.body as Record<string, string>);
    return 'refused' in result
      ? html(reply, 'Not saved', `<p>${escapeHtml(result.refused)}</p>`, 422)
      : reply.redirect(`${under}/records/${encodeURIComponent(result.id)}`);
  };
  if (remove)
    app.post(`${under}/records/:id/delete`, async (request, reply) => {
      await remove((request.params as { id: string }).id);
      return reply.redirect(under || '/');
    });
  app.post(`${under}/records`, post);
  app.post(`${under}/records/:id`, post);
}
