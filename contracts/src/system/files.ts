import { z } from 'zod';
import { objectPages, systemPages } from './pages.js';
import { rowsObjects } from './rows.js';
import { systemTimesSchema } from './times.js';

export const fileFormats = ['csv', 'jsonl', 'xlsx'] as const;

/** Files as an object: their records are the rows or lines. */
export const fileObjectSchema = z.strictObject({
  /** Relative to the folder. In a pattern, `*` stands for any characters but the slash. */
  path: z.string().min(1).max(500),
  format: z.enum(fileFormats),
  /** The column or field that is the record's key. */
  key: z.string().min(1).max(200),
  /** A column or field with the time of the last change, ISO 8601. */
  modifiedAt: z.string().min(1).max(200).optional(),
  delimiter: z.string().length(1).default(','),
  quote: z.string().length(1).default('"'),
  /** By the names of the WHATWG Encoding standard. */
  encoding: z.string().min(1).max(40).default('utf-8'),
  /** Of a workbook; the first where none is named. */
  sheet: z.string().min(1).max(100).optional(),
  /**
   * Whether the file is the record set (with a pattern, all files together), or each new file brings records once: then
   * a
   * record is what the last delivery said of it. Several files are only read.
   */
  holds: z.enum(['record set', 'deliveries']).default('record set'),
  ...objectPages,
});

export const filesSystemSchema = z.strictObject({
  kind: z.literal('files'),
  name: z.string().min(1).max(200),
  /** Relative to the knot file, or absolute. */
  folder: z.string().min(1).max(1000).default('.'),
  times: systemTimesSchema.optional(),
  ...systemPages,
  objects: z.record(z.string(), fileObjectSchema),
  ...rowsObjects,
});

export type FileObject = z.output<typeof fileObjectSchema>;
export type FilesSystem = z.output<typeof filesSystemSchema>;

/** Whether a file is one of those that a pattern means. @param path relative to the folder, with slashes */
export function isMeant(pattern: string, path: string): boolean {
  const parts = pattern.split('*').map((part) => part.replaceAll(/[.+?^${}()|[\]\\]/g, '\\$&'));
  return new RegExp(`^${parts.join('[^/]*')}$`).test(path);
}
