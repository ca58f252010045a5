import type { FastifyInstance } from 'fastify';
import type { Pool } from 'pg';
import type { PageField } from '../kit/pages.js';
import { registerRecordPages } from '../kit/recordPages.js';

const fields: readonly PageField[] = [
  { name: 'title', label: 'Title' },
  { name: 'parent_no', label: 'Part of (job)' },
  { name: 'status', label: 'Status' },
  { name: 'foreman', label: 'Foreman (staff number)' },
  { name: 'begins', label: 'Begins' },
  { name: 'ends', label: 'Ends' },
  { name: 'budget', label: 'Budget' },
  { name: 'board_row', label: 'Row on the boards' },
];
const names = fields.map(({ name }) => name);
/** Days as they are written, and not as moments. */
const shown = 'job_no, title, parent_no, status, foreman, begins::text, ends::text, budget, board_row';

/** The ERP's pages of its jobs. */
export function registerJobPages(app: FastifyInstance, name: string, pool: Pool): void {
  registerRecordPages(app, {
    name,
    noun: ['job', 'jobs'],
    under: '/jobs',
    fields,
    columns: ['Title', 'Part of', 'Status', 'Foreman', 'Begins', 'Ends'],
    list: async () => {
      const { rows } = await pool.query<Record<string, string | null> & { job_no: string }>(
        `select ${shown} from job order by coalesce(parent_no, job_no), job_no`,
      );
      return rows.map((row) => ({
        id: row.job_no,
        cells: [row.title, row.parent_no, row.status, row.foreman, row.begins, row.ends],
      }));
    },
    show: async (id) => {
      const { rows } = await pool.query<Record<string, string | null>>(`select ${shown} from job where job_no = $1`, [
        id,
      ]);
      return rows[0];
    },
    save: async (id, form) => {
      const given = names.filter((field) => form[field] !== undefined);
      const values = given.map((field) => (form[field] === '' ? null : form[field]));
      const columns = given.join(', ');
      const places = given.map((_, place) => `$${place + 1}`).join(', ');
      const text =
        id === undefined
          ? `insert into job (${columns}) values (${places}) returning job_no`
          : `update job set (${columns}) = row(${places}) where job_no = $${given.length + 1} returning job_no`;
      try {
        const { rows } = await pool.query<{ job_no: string }>(text, id === undefined ? values : [...values, id]);
        return { id: rows[0]?.job_no ?? '' };
      } catch (error) {
        return { refused: (error as Error).message };
      }
    },
  });
}
