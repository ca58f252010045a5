import { statfsSync } from 'node:fs';
import { dirname } from 'node:path';

/** With fewer bytes an embedded database can write nothing more: its log comes in files of that length. */
const leastFree = 20 << 20;

/**
 * A failure in words where it came of a full disk, whatever the database made of it; otherwise the failure as it is.
 * @param folder what was being written to, or where it was to be
 */
export function explained(error: unknown, folder: string): unknown {
  if (!isNoSpace(error) && freeBytes(folder) >= leastFree) return error;
  return new Error(
    `The disk that ${folder} is on is full. What was done until then is kept or is found out by looking. ` +
      'Make room there, and run again.',
    { cause: error },
  );
}

/** Number of the error in WASI (`errno`, *nospc*), by which the embedded database's file system tells it. */
const noSpaceInWasi = 51;

function isNoSpace(error: unknown): boolean {
  if (typeof error !== 'object' || error === null) return false;
  const { code, name, errno, cause } = error as Partial<NodeJS.ErrnoException> & { readonly cause?: unknown };
  return code === 'ENOSPC' || (name === 'ErrnoError' && errno === noSpaceInWasi) || isNoSpace(cause);
}

function freeBytes(folder: string): number {
  try {
    const { bavail, bsize } = statfsSync(folder);
    return bavail * bsize;
  } catch {
    return dirname(folder) === folder ? Infinity : freeBytes(dirname(folder));
  }
}
