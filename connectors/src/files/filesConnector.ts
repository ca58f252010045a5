import { createHash } from 'node:crypto';
import { access, constants, stat } from 'node:fs/promises';
import { dirname } from 'node:path';
import { type FileObject, type FilesSystem, isMeant } from '@anchor-knot/contracts';
import {
  type FieldPath,
  type Present,
  type Raw,
  readPath,
  type RecordKey,
  recordKey,
  scalarText,
  type SourceRecord,
  type SourceSchema,
  writePath,
} from '@anchor-knot/core';
import {
  type Capabilities,
  type Clock,
  type Connector,
  type Page,
  SystemTrouble,
  type UnusableRecord,
  type WriteOutcome,
  type WriteRequest,
} from '../connector.js';
import { describedObject } from '../describedObject.js';
import { stringifyExactJson } from '../json/exactJson.js';
import { readTextTime } from '../times.js';
import { csvColumns } from './csv.js';
import { canHold } from './encoding.js';
import { type FolderDependencies, listFiles, openFolder, pathIn } from './folder.js';
import { backUp, parseFile, writeFile } from './formats.js';
import { fileProblem, type FileRow, type RowFile, rowVersion } from './rowFile.js';
import { arrivalOf, readSettled, settleMs } from './settledFile.js';

const pageSize = 1000;

export interface FilesDependencies extends FolderDependencies {
  /** Where links may lead that stand for files: anywhere for who may read anything; out of no folder when left out. */
  readonly links?: 'within' | 'anywhere' | undefined;
  readonly clock: Clock;
}

/**
 * Reads and writes a file as an object, or reads several as one, or the deliveries that a folder receives. Every write
 * reads the file again,
 * compares each row with what was read before, and replaces the file in one step; the file as it was before the first
 * write is kept beside it (`.bak`).
 */
export class FilesConnector implements Connector {
  readonly capabilities: Capabilities;
  readonly #system: FilesSystem;
  readonly #object: FileObject;
  readonly #dependencies: FilesDependencies;
  /** The file is the record set; it can be written. */
  readonly #isOneFile: boolean;
  #backedUp = false;
  #ownWrite: number | undefined;
  #rows: { readonly arrival: number; readonly byKey: ReadonlyMap<string, FileRow> } | undefined;

  constructor(system: FilesSystem, objectName: string, dependencies: FilesDependencies) {
    const object = describedObject(system, objectName);
    this.#system = system;
    this.#object = object;
    this.#dependencies = dependencies;
    this.#isOneFile = object.holds === 'record set' && !object.path.includes('*');
    this.capabilities = {
      batchSize: 20_000,
      conditionalUpdate: true,
      idempotentCreate: true,
      changesSince: object.holds === 'deliveries',
      searchable: [],
      create: this.#isOneFile,
      update: this.#isOneFile,
      archive: false,
      delete: this.#isOneFile && object.format !== 'xlsx',
      tombstones: false,
      webhooks: false,
      createField: false,
      heldWhole: true,
    };
  }

  async describe(): Promise<SourceSchema | undefined> {
    if (this.#isOneFile && this.#object.format === 'csv') {
      const path = await this.#path();
      const { bytes } = await readSettled(path, this.#dependencies.clock);
      const names = csvColumns(path, bytes, this.#object);
      return { origin: 'declared', fields: names.map((name) => ({ path: name, type: 'text' })) };
    }
    const columns = new Set<string>();
    for await (const { file } of this.#files()) for (const column of file.columns ?? []) columns.add(column);
    // A workbook has types of its own in each cell: what they are, the records show.
    if (columns.size === 0 || this.#object.format === 'xlsx') return undefined;
    return { origin: 'declared', fields: [...columns].map((path) => ({ path, type: 'text' })) };
  }

  clockOffset(): number {
    return 0;
  }

  async close(): Promise<void> {}

  async look(): Promise<string | undefined> {
    const files = this.#isOneFile ? [await this.#path()] : (await this.#arrivals()).map(({ path }) => path);
    const known = await Promise.all(files.map(async (path) => stat(path).catch(() => undefined)));
    const isSettled = known.every((file) => !file || Date.now() - arrivalOf(file) >= settleMs);
    const facts = known.map((file, place) => [files[place], file && [file.size, arrivalOf(file), file.ino]]);
    return isSettled ? createHash('sha256').update(JSON.stringify(facts)).digest('base64url') : undefined;
  }

  /** Of deliveries, the newest first: what it says of a record is what counts. */
  async *read({
    changedSince,
    signal,
  }: { changedSince?: number | undefined; signal?: AbortSignal | undefined } = {}): AsyncIterable<Page> {
    const seen = new Set<string>();
    for await (const { path, file, arrival, problem } of this.#files(changedSince)) {
      if (problem !== undefined) yield { file: path, records: [], unusable: [{ reason: problem, file: path }] };
      // Of an empty file it is told too that it was read.
      for (let at = 0; at === 0 || at < file.rows.length; at += pageSize) {
        signal?.throwIfAborted();
        const records: SourceRecord[] = [];
        const unusable: UnusableRecord[] = [];
        const refuse = (line: number | undefined, reason: string): void =>
          void unusable.push({
            reason: `${path}: line ${line ?? '?'}${reason}`,
            file: path,
            ...(line === undefined ? {} : { line }),
          });
        for (const row of file.rows.slice(at, at + pageSize)) {
          const key = this.#key(row);
          if (row.problem !== undefined) refuse(row.line, `: ${row.problem}`);
          else if (key === '') refuse(row.line, ` has no value in the key “${this.#object.key}”`);
          else if (!seen.has(key)) records.push(this.#record(row, arrival) as SourceRecord);
          else if (this.#object.holds === 'record set')
            throw fileProblem(
              path,
              `line ${row.line ?? '?'} has the key “${key}”, which is in another file already`,
              'A key must stand for one record: correct one of them.',
            );
          if (!this.#isOneFile) seen.add(key);
        }
        yield { file: path, records, unusable };
      }
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    if (this.#isOneFile) return this.#readRow(key);
    for await (const { file, arrival } of this.#files()) {
      const row = file.rows.find((row) => row.problem === undefined && this.#key(row) === key);
      if (row) return this.#record(row, arrival);
    }
    return undefined;
  }

  /** Many rows may be asked for one after another: the file is read again only when it has changed. */
  async #readRow(key: RecordKey): Promise<SourceRecord | undefined> {
    const path = await this.#path();
    const arrival = await stat(path).then(arrivalOf, () => undefined);
    if (arrival === undefined || this.#rows?.arrival !== arrival) {
      const { file, arrival: now } = await this.#load(path, this.#ownWrite);
      const rows = file.rows.filter((row) => row.problem === undefined);
      this.#rows = { arrival: now, byKey: new Map(rows.map((row) => [this.#key(row), row])) };
    }
    const row = this.#rows.byKey.get(key);
    return row && this.#record(row, undefined);
  }

  async rights(): Promise<{ create: boolean; update: boolean } | undefined> {
    if (!this.#isOneFile) return undefined;
    const path = await this.#path();
    // The file is replaced by another beside it: that is a right on the folder.
    const may = await access(dirname(path), constants.W_OK).then(
      () => true,
      () => false,
    );
    return { create: may, update: may };
  }

  async search(): Promise<readonly SourceRecord[]> {
    throw new Error('files cannot be searched');
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    if (!this.#isOneFile) return requests.map(() => ({ kind: 'refused', words: 'several files can only be read' }));
    const path = await this.#path();
    const { bytes, file } = await this.#load(path, this.#ownWrite);
    const rows: (FileRow | undefined)[] = [...file.rows];
    const index = new Map(
      file.rows.flatMap((row, at) => (row.problem === undefined ? [[this.#key(row), at] as const] : [])),
    );
    const outcomes = requests.map((request): WriteOutcome => {
      if (request.kind === 'archive' || request.kind === 'delete') return this.#delete(request, rows, index);
      const words = this.#refusal(request, file);
      if (words !== undefined) return { kind: 'refused', words };
      if (request.kind === 'update') return this.#update(request, rows, index.get(request.key));
      return this.#create(request, file, rows, index);
    });
    if (outcomes.some(({ kind }) => kind === 'written')) {
      if (!this.#backedUp) await backUp(path);
      this.#backedUp = true;
      await writeFile(path, this.#object, { ...file, rows: rows.filter((row) => row !== undefined) }, bytes);
      this.#ownWrite = arrivalOf(await stat(path));
      // Two writes may bear one time: what was read before is not told by it from what was written.
      this.#rows = undefined;
    }
    return outcomes;
  }

  #delete(
    { kind, key, version }: Extract<WriteRequest, { kind: 'archive' | 'delete' }>,
    rows: (FileRow | undefined)[],
    index: Map<string, number>,
  ): WriteOutcome {
    if (kind === 'archive' || !this.capabilities.delete)
      return { kind: 'refused', words: 'this cannot be done in this file' };
    const at = index.get(key);
    const row = at === undefined ? undefined : rows[at];
    if (!row || at === undefined) return { kind: 'gone' };
    if (version !== undefined && rowVersion(row.fields) !== version) return { kind: 'raced' };
    rows[at] = undefined;
    index.delete(key);
    return { kind: 'written', key, record: undefined };
  }

  #refusal(request: Extract<WriteRequest, { kind: 'create' | 'update' }>, { columns }: RowFile): string | undefined {
    for (const [path, value] of request.fields) {
      if (columns && !columns.includes(path)) return `the file has no column “${path}”`;
      const text = typeof value === 'string' ? value : stringifyExactJson(value);
      if (this.#object.format !== 'xlsx' && !canHold(this.#object.encoding, text))
        return `“${text.slice(0, 60)}” cannot be written in ${this.#object.encoding}, the encoding of the file`;
    }
    return undefined;
  }

  #update(
    request: Extract<WriteRequest, { kind: 'update' }>,
    rows: (FileRow | undefined)[],
    at: number | undefined,
  ): WriteOutcome {
    const row = at === undefined ? undefined : rows[at];
    if (!row || at === undefined) return { kind: 'gone' };
    if (request.version !== undefined && rowVersion(row.fields) !== request.version) return { kind: 'raced' };
    const changed = this.#changed(row, request.fields);
    rows[at] = changed;
    return { kind: 'written', key: request.key, record: this.#record(changed, undefined) };
  }

  /** The key of a new row is made from the idempotency key, so a repeated creation finds its own row. */
  #create(
    request: Extract<WriteRequest, { kind: 'create' }>,
    file: RowFile,
    rows: (FileRow | undefined)[],
    index: Map<string, number>,
  ): WriteOutcome {
    const given = request.fields.get(this.#object.key);
    const key =
      given === undefined || given === null || given === ''
        ? `n-${createHash('sha256').update(request.idempotencyKey).digest('hex').slice(0, 12)}`
        : String(given);
    const known = index.get(key);
    if (known !== undefined) {
      if (given !== undefined) return { kind: 'refused', words: `there is a row with the key “${key}” already` };
      return { kind: 'written', key: recordKey(key), record: this.#record(rows[known] as FileRow, undefined) };
    }
    const blank = this.#object.format === 'csv' ? '' : null;
    const row = this.#changed(
      { fields: file.columns ? Object.fromEntries(file.columns.map((name) => [name, blank])) : {} },
      new Map([[this.#object.key, key], ...request.fields] as [FieldPath, Raw][]),
    );
    index.set(key, rows.push(row) - 1);
    return { kind: 'written', key: recordKey(key), record: this.#record(row, undefined) };
  }

  #changed(row: FileRow, fields: ReadonlyMap<FieldPath, Raw>): FileRow {
    let changed: Record<string, Raw> = { ...row.fields };
    for (const [path, value] of fields) {
      // Columns may have points in their names; only JSON is nested.
      if (this.#object.format === 'jsonl') changed = writePath(changed, path, value);
      else if (this.#object.format === 'xlsx') changed[path] = value;
      else changed[path] = scalarText(value) ?? (value === null ? '' : stringifyExactJson(value));
    }
    return { line: row.line, fields: changed };
  }

  /**
   * The files of the object with what is in them, one at a time. A delivery that cannot be read at all is told of, and
   * the others are read.
   */
  async *#files(
    changedSince?: number,
  ): AsyncIterable<{ path: string; file: RowFile; arrival: number | undefined; problem?: string }> {
    if (this.#isOneFile) {
      const path = await this.#path();
      yield { path: this.#object.path, file: (await this.#load(path)).file, arrival: undefined };
      return;
    }
    const dated = await this.#arrivals();
    if (dated.length === 0 && this.#object.holds === 'record set')
      throw fileProblem(
        await openFolder(this.#system, this.#dependencies),
        `there is no file like ${this.#object.path}`,
        'Put the files there, or correct the pattern.',
      );
    const due = dated
      .filter(({ arrival }) => changedSince === undefined || arrival >= changedSince)
      .sort((one, other) => other.arrival - one.arrival || (one.name < other.name ? 1 : -1));
    for (const { name, path } of due) {
      try {
        const { file, arrival } = await this.#load(path);
        yield { path: name, file, arrival };
      } catch (error) {
        // Of a record set nothing may be missing: what is in the others would look as if it were all.
        if (!(error instanceof SystemTrouble) || this.#object.holds === 'record set') throw error;
        yield {
          path: name,
          file: { rows: [], columns: undefined, newline: '\n', byteOrderMark: false },
          arrival: undefined,
          problem: `${error.message}. ${error.advice}`,
        };
      }
    }
  }

  /** The files that the object is made of, each with when it came. */
  async #arrivals(): Promise<readonly { readonly name: string; readonly path: string; readonly arrival: number }[]> {
    const folder = await openFolder(this.#system, this.#dependencies);
    const names = (await listFiles(folder)).filter((name) => isMeant(this.#object.path, name));
    return Promise.all(
      names.map(async (name) => {
        const path = await pathIn(folder, name);
        return { name, path, arrival: await stat(path).then(arrivalOf, () => 0) };
      }),
    );
  }

  async #path(): Promise<string> {
    const { links } = this.#dependencies;
    return pathIn(await openFolder(this.#system, this.#dependencies), this.#object.path, links);
  }

  async #load(path: string, own?: number): Promise<{ bytes: Buffer; arrival: number; file: RowFile }> {
    const { bytes, arrival } = await readSettled(path, this.#dependencies.clock, own);
    const file = await parseFile(path, bytes, this.#object);
    if (file.columns && !file.columns.includes(this.#object.key))
      throw fileProblem(
        path,
        `there is no column “${this.#object.key}”, which is to be the key`,
        `Its columns are ${file.columns.join(', ')}.`,
      );
    const lines = new Map<string, number | undefined>();
    for (const row of file.rows) {
      if (row.problem !== undefined) continue;
      const key = this.#key(row);
      if (key && lines.has(key)) {
        throw fileProblem(
          path,
          `lines ${lines.get(key) ?? '?'} and ${row.line ?? '?'} have the same key “${key}”`,
          'A key must stand for one record: correct one of them.',
        );
      }
      if (key) lines.set(key, row.line);
    }
    return { bytes, arrival, file };
  }

  #key(row: FileRow): string {
    return (scalarText(this.#value(row, this.#object.key)) ?? '').trim();
  }

  /** Columns may have points in their names; only JSON is nested. */
  #value(row: FileRow, path: FieldPath): Present {
    return this.#object.format === 'jsonl' ? readPath(row.fields as Raw, path) : row.fields[path];
  }

  #record(row: FileRow, arrival: number | undefined): SourceRecord | undefined {
    const key = this.#key(row);
    if (key === '') return undefined;
    const { modifiedAt } = this.#object;
    const said = modifiedAt === undefined ? undefined : scalarText(this.#value(row, modifiedAt));
    const { zone, aheadMs } = this.#system.times ?? {};
    const time = said === undefined ? undefined : readTextTime(said, zone);
    const at = time === undefined ? arrival : time - (aheadMs ?? 0);
    return {
      key: recordKey(key),
      fields: row.fields,
      version: rowVersion(row.fields),
      ...(at === undefined ? {} : { modifiedAt: Math.round(at) }),
    };
  }
}
