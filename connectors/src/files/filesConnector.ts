import { createHash } from 'node:crypto';
import { resolve } from 'node:path';
import type { FileObject, FilesSystem } from '@anchor-knot/contracts';
import { type FieldPath, isExactNumber, type Raw, readPath, type RecordKey, recordKey, type SourceRecord, type SourceSchema, writePath } from '@anchor-knot/core';
import { type Capabilities, type Connector, type Page, SystemTrouble, type WriteOutcome, type WriteRequest } from '../connector.js';
import { backUp, type FileRow, readRows, rowVersion, type RowFile, writeRows } from './rowFile.js';

const pageSize = 1000;

/**
 * Reads and writes one file as an object. Every write reads the file again, compares each row with what was read
 * before, and replaces the file in one step; the file as it was before the first write is kept beside it (`.bak`).
 */
export class FilesConnector implements Connector {
  readonly capabilities: Capabilities = { batchSize: 10_000, conditionalUpdate: true, idempotentCreate: true, changesSince: false, searchable: [], create: true, update: true };
  readonly #object: FileObject;
  readonly #path: string;
  #backedUp = false;

  /** @param base the folder that a relative folder of the system is taken from */
  constructor(system: FilesSystem, objectName: string, base: string) {
    const object = system.objects[objectName];
    if (!object) throw new SystemTrouble('object is gone', `${system.name} has no object “${objectName}”`, `Choose one of ${Object.keys(system.objects).join(', ')}.`);
    this.#object = object;
    this.#path = resolve(base, system.folder, object.path);
  }

  async describe(): Promise<SourceSchema | undefined> {
    const { columns } = await this.#load();
    return columns && { origin: 'declared', fields: columns.map((path) => ({ path, type: 'text' })) };
  }

  clockOffset(): number {
    return 0;
  }

  async close(): Promise<void> {}

  async *read(): AsyncIterable<Page> {
    const { rows } = await this.#load();
    for (let at = 0; at < rows.length || at === 0; at += pageSize) {
      const part = rows.slice(at, at + pageSize);
      const records = part.flatMap((row) => this.#record(row) ?? []);
      const unusable = part.filter((row) => !this.#key(row)).map(({ line }) => ({ reason: `${this.#path}: line ${line ?? '?'} has no value in the key “${this.#object.key}”` }));
      yield { records, unusable };
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    const row = (await this.#load()).rows.find((one) => this.#key(one) === key);
    return row && this.#record(row);
  }

  async search(): Promise<readonly SourceRecord[]> {
    throw new Error('files cannot be searched');
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    const file = await this.#load();
    const rows = [...file.rows];
    const index = new Map(rows.map((row, at) => [this.#key(row), at]));
    const outcomes = requests.map((request): WriteOutcome => {
      const missing = file.columns && [...request.fields.keys()].find((path) => !file.columns?.includes(path));
      if (missing !== undefined) return { kind: 'refused', words: `the file has no column “${missing}”` };
      if (request.kind === 'update') return this.#update(request, rows, index.get(request.key));
      return this.#create(request, file, rows, index);
    });
    if (outcomes.some(({ kind }) => kind === 'written')) {
      if (!this.#backedUp) await backUp(this.#path);
      this.#backedUp = true;
      await writeRows(this.#path, this.#object, { ...file, rows });
    }
    return outcomes;
  }

  #update(request: Extract<WriteRequest, { kind: 'update' }>, rows: FileRow[], at: number | undefined): WriteOutcome {
    const row = at === undefined ? undefined : rows[at];
    if (!row || at === undefined) return { kind: 'gone' };
    if (request.version !== undefined && rowVersion(row.fields) !== request.version) return { kind: 'raced' };
    rows[at] = this.#changed(row, request.fields);
    return { kind: 'written', key: request.key, record: this.#record(rows[at]) };
  }

  /** The key of a new row is made from the idempotency key, so a repeated creation finds its own row. */
  #create(request: Extract<WriteRequest, { kind: 'create' }>, file: RowFile, rows: FileRow[], index: Map<string, number>): WriteOutcome {
    const given = request.fields.get(this.#object.key);
    const key = given === undefined || given === null || given === '' ? `n-${createHash('sha256').update(request.idempotencyKey).digest('hex').slice(0, 12)}` : String(given);
    const known = index.get(key);
    if (known !== undefined) {
      if (given !== undefined) return { kind: 'refused', words: `there is a row with the key “${key}” already` };
      return { kind: 'written', key: recordKey(key), record: this.#record(rows[known] as FileRow) };
    }
    const blank: FileRow = { fields: file.columns ? Object.fromEntries(file.columns.map((name) => [name, ''])) : {} };
    const row = this.#changed(blank, new Map([[this.#object.key, key], ...request.fields] as [FieldPath, Raw][]));
    index.set(key, rows.push(row) - 1);
    return { kind: 'written', key: recordKey(key), record: this.#record(row) };
  }

  #changed(row: FileRow, fields: ReadonlyMap<FieldPath, Raw>): FileRow {
    let changed: Record<string, Raw> = { ...row.fields };
    for (const [path, value] of fields) {
      // Columns of a CSV file may have points in their names; only JSON is nested.
      const held = this.#object.format === 'csv' ? (isExactNumber(value) ? value.$number : value === null ? '' : String(value)) : value;
      changed = this.#object.format === 'csv' ? { ...changed, [path]: held } : writePath(changed, path, held);
    }
    return { line: row.line, fields: changed };
  }

  async #load(): Promise<RowFile> {
    const file = await readRows(this.#path, this.#object);
    if (file.columns && !file.columns.includes(this.#object.key)) {
      throw new SystemTrouble('file problem', `${this.#path}: there is no column “${this.#object.key}”, which is to be the key`, `Its columns are ${file.columns.join(', ')}.`);
    }
    const lines = new Map<string, number | undefined>();
    for (const row of file.rows) {
      const key = this.#key(row);
      if (key && lines.has(key)) {
        throw new SystemTrouble(
          'file problem',
          `${this.#path}: lines ${lines.get(key) ?? '?'} and ${row.line ?? '?'} have the same key “${key}”`,
          'A key must stand for one record: correct one of them.',
        );
      }
      if (key) lines.set(key, row.line);
    }
    return file;
  }

  #key(row: FileRow): string {
    const value = this.#object.format === 'csv' ? row.fields[this.#object.key] : readPath(row.fields as Raw, this.#object.key);
    if (isExactNumber(value)) return value.$number;
    return typeof value === 'string' || typeof value === 'number' ? String(value).trim() : '';
  }

  #record(row: FileRow): SourceRecord | undefined {
    const key = this.#key(row);
    if (key === '') return undefined;
    const time = this.#object.modifiedAt === undefined ? Number.NaN : Date.parse(String(readPath(row.fields as Raw, this.#object.modifiedAt) ?? ''));
    return { key: recordKey(key), fields: row.fields, version: rowVersion(row.fields), ...(Number.isNaN(time) ? {} : { modifiedAt: time }) };
  }
}
