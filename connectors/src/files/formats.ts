import { type FileHandle, open, readFile, realpath, rename, rm, stat } from 'node:fs/promises';
import { dirname } from 'node:path';
import type { FileObject } from '@anchor-knot/contracts';
import { readCsv, renderCsv } from './csv.js';
import { readJsonLines, renderJsonLines } from './jsonLines.js';
import { fileProblem, type RowFile } from './rowFile.js';

/** Loaded only where there is one: it takes longer to start than all the rest. */
const workbooks = () => import('./workbook.js');

/** @throws {SystemTrouble} with file, line and reason when the file is not what it should be */
export async function parseFile(path: string, bytes: Buffer, object: FileObject): Promise<RowFile> {
  switch (object.format) {
    case 'csv':
      return readCsv(path, bytes, object);
    case 'jsonl':
      return readJsonLines(path, bytes, object);
    case 'xlsx':
      return (await workbooks()).readWorkbook(path, bytes, object);
    default:
      throw new Error(`unknown format ${JSON.stringify(object.format satisfies never)}`);
  }
}

/** Replaces the file in one step: a reader sees the old file or the new one, and after a crash one of them is whole. */
export async function writeFile(path: string, object: FileObject, file: RowFile, before: Buffer): Promise<void> {
  const bytes =
    object.format === 'csv'
      ? renderCsv(file, object)
      : object.format === 'jsonl'
        ? renderJsonLines(file, object)
        : await (await workbooks()).renderWorkbook(file, object, before);
  await refuseReadOnly(path);
  await replaceFile(path, async (handle) => handle.writeFile(bytes));
}

/**
 * Whoever may do everything would overwrite a file that was locked on purpose.
 * @throws {SystemTrouble} when nobody may write to it
 */
async function refuseReadOnly(path: string): Promise<void> {
  const { mode } = await stat(path);
  if ((mode & anyoneMayWrite) === 0)
    throw fileProblem(path, 'it is read-only', 'Allow writing to it, or let its member only give values.');
}

/** The file as it was, beside it. */
export async function backUp(path: string): Promise<void> {
  await refuseReadOnly(path);
  const bytes = await readFile(path);
  await replaceFile(`${path}.bak`, async (handle) => handle.writeFile(bytes), path);
}

/**
 * Replaces a file in one step: whatever happens, there is the old one or the new one, whole. A link is written through.
 * @param like the file whose rights the new one has; that file itself when left out
 * @throws {SystemTrouble} when it may not be written, or the disk is full
 */
async function replaceFile(
  path: string,
  write: (handle: FileHandle) => Promise<void>,
  like: string = path,
): Promise<void> {
  const target = await realpath(path).catch(() => path);
  const { mode } = await stat(like);
  const temporary = `${target}.writing`;
  try {
    const handle = await open(temporary, 'w', mode);
    try {
      await write(handle);
      await handle.sync();
    } finally {
      await handle.close();
    }
    await rename(temporary, target);
    await syncFolder(dirname(target));
  } catch (cause) {
    await rm(temporary, { force: true }).catch(() => undefined);
    throw unwritable(path, cause);
  }
}

const anyoneMayWrite = 0o222;

/** The new name of a file is on the disk only when its folder is. */
async function syncFolder(folder: string): Promise<void> {
  const handle = await open(folder, 'r');
  try {
    await handle.sync();
  } finally {
    await handle.close();
  }
}

function unwritable(path: string, cause: unknown): unknown {
  switch ((cause as NodeJS.ErrnoException).code) {
    case 'ENOSPC':
    case 'EDQUOT':
      return fileProblem(path, 'there is no room for it on the disk', 'Make room, then run again.', cause);
    case 'EACCES':
    case 'EPERM':
    case 'EROFS':
      return fileProblem(path, 'it may not be written', 'Check the rights on the file and its folder.', cause);
    default:
      return cause;
  }
}
