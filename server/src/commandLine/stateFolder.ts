import {
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  openSync,
  readFileSync,
  readSync,
  renameSync,
  rmSync,
  statSync,
  truncateSync,
  writeSync,
} from 'node:fs';
import { join } from 'node:path';
import type { Knot } from '@anchor-knot/core';
import { EmbeddedDatabase } from '../persistence/embeddedDatabase.js';
import {
  journalAfter,
  knotOf,
  openDecisions,
  operationsOf,
  takeDefinition,
  untiedRecords,
} from '../persistence/tables/fileRuns.js';

/** How much of a file's end is read to find its last line. */
const tailBytes = 1 << 20;

/**
 * What the command line keeps between runs: a database with the engine's state, and lists made from it for people and
 * scripts. One process at a time may have it open.
 */
export class StateFolder {
  readonly #folder: string;
  readonly #definition: Knot;
  readonly #database: EmbeddedDatabase;
  /** The version of the definition that is in force. */
  readonly version: number;

  private constructor(folder: string, definition: Knot, database: EmbeddedDatabase, version: number) {
    this.#folder = folder;
    this.#definition = definition;
    this.#database = database;
    this.version = version;
  }

  /**
   * Takes the folder for this process, and puts the definition in force.
   * @throws when another process has it, it may not be written, or what is in it is of something else
   */
  static async open(folder: string, definition: Knot): Promise<StateFolder> {
    mkdirSync(folder, { recursive: true });
    takeLock(folder);
    let database: EmbeddedDatabase | undefined;
    try {
      if (existsSync(join(folder, 'state.json')))
        throw new Error(
          `${folder} was made by an earlier version, which kept its state as one file. Move it away: without it, ` +
            'records are matched anew by their keys.',
        );
      database = await EmbeddedDatabase.open(join(folder, 'database'));
      const known = await knotOf(database);
      if (known !== undefined && known !== definition.id)
        throw new Error(
          `${folder} holds the state of the knot “${known}”, not of “${definition.id}”. ` +
            'Choose another folder with --state.',
        );
      const version = await takeDefinition(database, definition);
      return new StateFolder(folder, definition, database, version);
    } catch (error) {
      await database?.close().catch(() => undefined);
      releaseLock(folder);
      throw error;
    }
  }

  get database(): EmbeddedDatabase {
    return this.#database;
  }

  async close(): Promise<void> {
    try {
      await this.#database.close();
    } finally {
      releaseLock(this.#folder);
    }
  }

  /** Adds to the journal what it does not have yet; a line that a crash has cut is made anew. */
  async saveJournal(): Promise<void> {
    const path = this.#path('journal.jsonl');
    const file = openSync(path, 'a', 0o600);
    try {
      const last = lastEntry(path);
      for await (const entries of journalAfter(this.#database, last))
        writeSync(file, entries.map(({ line }) => `${line}\n`).join(''));
      fsyncSync(file);
    } finally {
      closeSync(file);
    }
  }

  /** Lists for people and scripts: held fields, rejected records, records that are tied to nothing, and the rest. */
  async saveLists(): Promise<void> {
    const names = ['held', 'rejected', 'waiting'] as const;
    const listOf = (kind: string): (typeof names)[number] =>
      kind === 'held' || kind === 'rejected' ? kind : 'waiting';
    const lists = names.map((name) => ({ name, list: new NewFile(this.#path(`${name}.jsonl`)) }));
    const untied = new NewFile(this.#path('untied.jsonl'));
    try {
      for await (const rows of openDecisions(this.#database, this.#definition.id))
        for (const { name, list } of lists)
          list.write(rows.filter(({ kind }) => listOf(kind) === name).map(({ id: _, ...row }) => row));
      for await (const rows of untiedRecords(this.#database, this.#definition.id))
        untied.write(rows.map(({ id: _, ...row }) => row));
      for (const { list } of lists) list.keep();
      untied.keep();
    } finally {
      for (const { list } of lists) list.drop();
      untied.drop();
    }
  }

  async savePlan(run: string): Promise<void> {
    const list = new NewFile(this.#path('plan.jsonl'));
    try {
      for await (const rows of operationsOf(this.#database, run)) list.write(rows.map(({ id: _, ...row }) => row));
      list.keep();
    } finally {
      list.drop();
    }
  }

  #path(name: string): string {
    return join(this.#folder, name);
  }
}

/** A file that takes the place of another one when it is whole. */
class NewFile {
  readonly #path: string;
  readonly #temporary: string;
  #file: number | undefined;

  constructor(path: string) {
    this.#path = path;
    this.#temporary = `${path}.writing`;
    this.#file = openSync(this.#temporary, 'w', 0o600);
  }

  write(rows: readonly unknown[]): void {
    if (this.#file !== undefined && rows.length > 0) writeSync(this.#file, lines(rows));
  }

  keep(): void {
    if (this.#file === undefined) return;
    fsyncSync(this.#file);
    this.#close();
    renameSync(this.#temporary, this.#path);
  }

  /** Gives it up, where it was not kept. */
  drop(): void {
    if (this.#file === undefined) return;
    this.#close();
    rmSync(this.#temporary, { force: true });
  }

  #close(): void {
    if (this.#file !== undefined) closeSync(this.#file);
    this.#file = undefined;
  }
}

function lines(rows: readonly unknown[]): string {
  return rows.map((row) => `${JSON.stringify(row)}\n`).join('');
}

/** The id of the last whole line of the journal; what stands after it is cut off. */
function lastEntry(path: string): string {
  const { size } = statSync(path);
  const buffer = Buffer.alloc(Math.min(size, tailBytes));
  const file = openSync(path, 'r');
  try {
    readSync(file, buffer, 0, buffer.length, size - buffer.length);
  } finally {
    closeSync(file);
  }
  const text = buffer.toString('utf8');
  const end = text.lastIndexOf('\n') + 1;
  if (end < text.length) truncateSync(path, size - Buffer.byteLength(text.slice(end)));
  const last = text.slice(0, end).trimEnd().split('\n').at(-1) ?? '';
  return last === '' ? '0' : String((JSON.parse(last) as { id?: unknown }).id ?? '0');
}

interface Lock {
  readonly pid: number;
  /** When the process began, as the system counts: its number may belong to another one by now. */
  readonly began: string | undefined;
}

/** @throws when a process that is still there has the folder */
function takeLock(folder: string): void {
  const path = join(folder, 'lock');
  const lock: Lock = { pid: process.pid, began: beginningOf(process.pid) };
  for (let attempt = 0; ; attempt += 1) {
    try {
      const file = openSync(path, 'wx', 0o600);
      writeSync(file, JSON.stringify(lock));
      closeSync(file);
      return;
    } catch (error) {
      if ((error as NodeJS.ErrnoException).code !== 'EEXIST' || attempt > 0) throw error;
      const holder = readLock(path);
      if (holder && isAlive(holder))
        throw new Error(`${folder} is in use by another run (process ${holder.pid}). Wait until it has ended.`, {
          cause: error,
        });
      rmSync(path, { force: true });
    }
  }
}

function releaseLock(folder: string): void {
  rmSync(join(folder, 'lock'), { force: true });
}

function readLock(path: string): Lock | undefined {
  try {
    const lock = JSON.parse(readFileSync(path, 'utf8')) as Partial<Lock>;
    return typeof lock.pid === 'number' ? { pid: lock.pid, began: lock.began } : undefined;
  } catch {
    return undefined;
  }
}

function isAlive({ pid, began }: Lock): boolean {
  try {
    process.kill(pid, 0);
  } catch (error) {
    return (error as NodeJS.ErrnoException).code === 'EPERM';
  }
  return began === undefined || beginningOf(pid) === began;
}

/** The start of a process in ticks since the machine began (proc(5), field 22 of stat); unknown on other systems. */
function beginningOf(pid: number): string | undefined {
  try {
    const stat = readFileSync(`/proc/${pid}/stat`, 'utf8');
    // The name of the program, in brackets, may hold anything.
    return stat.slice(stat.lastIndexOf(')') + 2).split(' ')[19];
  } catch {
    return undefined;
  }
}
