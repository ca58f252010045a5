import { readFile, stat } from 'node:fs/promises';
import type { Stats } from 'node:fs';
import type { Clock } from '../connector.js';
import { fileProblem } from './rowFile.js';

/** A file that nobody has touched for so long is complete. */
export const settleMs = 1000;
const mostTries = 15;

/** Names under which programs write before they are done, and what we keep beside a file. */
export function isUnfinishedName(name: string): boolean {
  return /^(\.|~\$)|\.(part|partial|tmp|temp|crdownload|filepart|download|writing|bak)$/i.test(name);
}

/** When a file came to be as it is here: copying one may keep the time of its last change, but not this. */
export function arrivalOf({ mtimeMs, ctimeMs }: Stats): number {
  return Math.max(mtimeMs, ctimeMs);
}

/**
 * Reads a file once nobody writes it any more.
 * @param own what {@link arrivalOf} said after our own last write: that needs no waiting
 * @throws {SystemTrouble} when it is not there, may not be read, or is still being written after a while
 */
export async function readSettled(
  path: string,
  clock: Clock,
  own?: number,
): Promise<{ bytes: Buffer; arrival: number }> {
  try {
    for (let attempt = 1; attempt <= mostTries; attempt += 1) {
      const before = await stat(path);
      if (!before.isFile()) throw fileProblem(path, 'it is no file', 'Give the path of a file.');
      // The file system's clock is finer than ours: what was written just now may seem to be of the future.
      const age = Math.max(0, Date.now() - arrivalOf(before));
      if (arrivalOf(before) !== own && age < settleMs) {
        await clock.sleep(settleMs - age);
        if (!same(before, await stat(path))) continue;
      }
      const bytes = await readFile(path);
      if (same(before, await stat(path))) return { bytes, arrival: arrivalOf(before) };
    }
  } catch (cause) {
    const { code } = cause as NodeJS.ErrnoException;
    if (code === 'ENOENT')
      throw fileProblem(
        path,
        'there is no such file',
        'Put the file there, or correct its path in the description.',
        cause,
      );
    if (code === 'EACCES' || code === 'EISDIR' || code === 'EIO')
      throw fileProblem(path, `it cannot be read: ${(cause as Error).message}`, 'Check the rights on the file.', cause);
    throw cause;
  }
  throw fileProblem(path, 'it is still being written', 'It is read in the next run, once it is complete.');
}

function same(one: Stats, other: Stats): boolean {
  return (
    one.size === other.size && one.mtimeMs === other.mtimeMs && one.ctimeMs === other.ctimeMs && one.ino === other.ino
  );
}
