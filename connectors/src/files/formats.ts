import { copyFile, open, rename, stat } from 'node:fs/promises';
import type { FileObject } from '@anchor-knot/contracts';
import { readCsv, renderCsv } from './csv.js';
import { readJsonLines, renderJsonLines } from './jsonLines.js';
import type { RowFile } from './rowFile.js';

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
  const temporary = `${path}.writing`;
  const { mode } = await stat(path);
  const handle = await open(temporary, 'w', mode);
  try {
    await handle.writeFile(bytes);
    await handle.sync();
  } finally {
    await handle.close();
  }
  await rename(temporary, path);
}

export async function backUp(path: string): Promise<void> {
  await copyFile(path, `${path}.bak`);
}
