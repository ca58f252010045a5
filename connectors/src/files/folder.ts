import { readdir, realpath } from 'node:fs/promises';
import { join, relative, resolve, sep } from 'node:path';
import type { FilesSystem } from '@anchor-knot/contracts';
import { SystemTrouble } from '../connector.js';
import { fileProblem } from './rowFile.js';
import { isUnfinishedName } from './settledFile.js';

export interface FolderDependencies {
  /** The folder that relative folders of systems are taken from. */
  readonly folder: string;
  /** The folders that systems may be in; without any, all: for the command line, which reads what its user may read. */
  readonly folders?: readonly string[] | undefined;
}

const deepest = 4;
const mostFiles = 5000;

/** The folder of a system, without links. @throws {SystemTrouble} when there is none, or it may not be read */
export async function openFolder(
  { name, folder }: Pick<FilesSystem, 'name' | 'folder'>,
  { folder: base, folders }: FolderDependencies,
): Promise<string> {
  const path = resolve(base, folder);
  const real = await realpath(path).catch((cause: unknown) => {
    throw fileProblem(
      path,
      'there is no such folder here',
      'Give a folder that is on the machine of the workers.',
      cause,
    );
  });
  const allowed =
    folders && (await Promise.all(folders.map((folder) => realpath(resolve(base, folder)).catch(() => undefined))));
  if (allowed && !allowed.some((one) => one !== undefined && isWithin(one, real)))
    throw new SystemTrouble(
      'not allowed',
      `${name}: ${path} is a folder that this installation may not read`,
      'Whoever runs this installation can allow folders in its settings (FILE_FOLDERS).',
    );
  return real;
}

/**
 * The path of a file in a folder.
 * @param links where links may lead; a server follows none out of the folder
 * @throws {SystemTrouble} when it leads out of the folder, also by a link
 */
export async function pathIn(folder: string, path: string, links: 'within' | 'anywhere' = 'within'): Promise<string> {
  const whole = resolve(folder, path);
  const real = await realpath(whole).catch(() => whole);
  if (!isWithin(folder, whole) || (links === 'within' && !isWithin(folder, real)))
    throw new SystemTrouble(
      'not allowed',
      `${path} leads out of the folder of its system`,
      'Give a path below that folder.',
    );
  return whole;
}

/** Paths of the complete files of a folder and the folders in it, relative to it and with slashes, by name. */
export async function listFiles(folder: string): Promise<string[]> {
  const found: string[] = [];
  async function walk(at: string, depth: number): Promise<void> {
    for (const entry of await readdir(at, { withFileTypes: true })) {
      if (isUnfinishedName(entry.name) || found.length >= mostFiles) continue;
      if (entry.isDirectory() && depth < deepest) await walk(join(at, entry.name), depth + 1);
      else if (entry.isFile()) found.push(relative(folder, join(at, entry.name)).split(sep).join('/'));
    }
  }
  await walk(folder, 1);
  return found.sort();
}

function isWithin(folder: string, path: string): boolean {
  return path === folder || path.startsWith(folder.endsWith(sep) ? folder : folder + sep);
}
