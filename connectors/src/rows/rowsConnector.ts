import pLimit from 'p-limit';
import { parentOfRow, rowKeysOf, type Rows } from '@anchor-knot/contracts';
import {
  type FieldPath,
  type Raw,
  readPath,
  recordKey,
  type RecordKey,
  scalarText,
  type SourceRecord,
} from '@anchor-knot/core';
import {
  type Capabilities,
  type Connector,
  type Page,
  SystemTrouble,
  type UnusableRecord,
  type WriteOutcome,
  type WriteRequest,
} from '../connector.js';
import { stringifyExactJson } from '../json/exactJson.js';
import { ListEditing, type RowMeant } from './listEditing.js';
import { isRow, RowKeys, rowRecord } from './row.js';

/** A page of records is handed on as soon as it has so many rows. */
const rowsInPage = 1000;
/** So many records are written at once. */
const writtenAtOnce = 4;
/** Whoever changes a record between our reading and our writing of it: so often it is begun anew. */
const mostTries = 3;

type Asked = { readonly place: number; readonly request: WriteRequest };

/**
 * The rows of a list that the records of another object have, as records of their own. A row's version is a digest of
 * what is in it; its key is that of its record with the values that tell it apart. What is written to several rows of a
 * record is written by one call, into the list as it is then.
 */
export class RowsConnector implements Connector {
  readonly capabilities: Capabilities;
  /** Only where the records can be looked at so: what cannot be is asked for. */
  readonly look?: () => Promise<string | undefined>;
  readonly #parents: Connector;
  readonly #rows: Rows;
  /** Writes go one after the other: two of them might be about rows of the same record, and each writes all. */
  readonly #inTurn = pLimit(1);

  constructor(parents: Connector, rows: Rows) {
    this.#parents = parents;
    this.#rows = rows;
    if (parents.look) this.look = parents.look.bind(parents);
    const { changesSince, update, heldWhole, tombstones, webhooks } = parents.capabilities;
    this.capabilities = {
      batchSize: 10_000,
      conditionalUpdate: true,
      idempotentCreate: false,
      changesSince,
      searchable: [rows.parentField],
      create: update,
      update,
      archive: false,
      delete: update,
      tombstones,
      webhooks,
      createField: false,
      writtenTogether: true,
      ...(heldWhole === undefined ? {} : { heldWhole }),
    };
  }

  async describe(): Promise<undefined> {
    return undefined;
  }

  clockOffset(): number {
    return this.#parents.clockOffset();
  }

  async close(): Promise<void> {
    await this.#parents.close();
  }

  async rights(): Promise<{ readonly create: boolean; readonly update: boolean } | undefined> {
    const rights = await this.#parents.rights?.();
    // A row is made by changing the record that has it.
    return rights && { create: rights.update, update: rights.update };
  }

  async *read(options: Parameters<Connector['read']>[0]): AsyncIterable<Page> {
    for await (const page of this.#parents.read(options)) {
      const ofFile = page.file === undefined ? {} : { file: page.file };
      const gone = (page.gone ?? []).map(rowKeysOf);
      let gathered: Page = { records: [], unusable: page.unusable, wholeUnder: gone, ...ofFile };
      for (const parent of page.records) {
        gathered = joined(gathered, pageOf(this.#rowsOf(parent), rowKeysOf(parent.key)));
        if (gathered.records.length < rowsInPage) continue;
        yield gathered;
        gathered = { records: [], unusable: [], ...ofFile };
      }
      yield gathered;
    }
  }

  async readOne(key: RecordKey): Promise<SourceRecord | undefined> {
    const parentKey = parentOfRow(key);
    const parent = parentKey === undefined ? undefined : await this.#parents.readOne(recordKey(parentKey));
    return parent && this.#goodRowsOf(parent).find((row) => row.key === key);
  }

  async readUnder(beginning: string): Promise<Page> {
    const parentKey = parentOfRow(beginning);
    const parent = parentKey === undefined ? undefined : await this.#parents.readOne(recordKey(parentKey));
    if (!parent) return { records: [], unusable: [], wholeUnder: [beginning] };
    return pageOf(this.#rowsOf(parent), beginning);
  }

  /** Only by whose they are. */
  async search(field: FieldPath, value: string): Promise<readonly SourceRecord[]> {
    if (field !== this.#rows.parentField) throw new Error(`${field} cannot be searched`);
    const parent = await this.#parents.readOne(recordKey(value));
    return parent ? this.#goodRowsOf(parent) : [];
  }

  async write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    return this.#inTurn(() => this.#write(requests));
  }

  async #write(requests: readonly WriteRequest[]): Promise<readonly WriteOutcome[]> {
    const outcomes: WriteOutcome[] = [];
    const troubles: SystemTrouble[] = [];
    const atOnce = pLimit(writtenAtOnce);
    const work = [...this.#byParent(requests, outcomes)].map(([parent, asked]) =>
      atOnce(async () => {
        const ends = await this.#writeParent(parent, asked).catch((error: unknown) => {
          if (!(error instanceof SystemTrouble)) throw error;
          troubles.push(error);
          return asked.map((): WriteOutcome => ({ kind: 'not done', words: error.message }));
        });
        for (const [index, { place }] of asked.entries()) outcomes[place] = ends[index] as WriteOutcome;
      }),
    );
    await Promise.all(work);
    const [trouble] = troubles;
    if (trouble && outcomes.every(({ kind }) => kind === 'not done')) throw trouble;
    return outcomes;
  }

  /** The requests by whose rows they are about; those of which nobody can tell have their outcome at once. */
  #byParent(requests: readonly WriteRequest[], outcomes: WriteOutcome[]): ReadonlyMap<string, readonly Asked[]> {
    const groups = new Map<string, Asked[]>();
    for (const [place, request] of requests.entries()) {
      const said = request.kind === 'create' ? request.fields.get(this.#rows.parentField) : undefined;
      const parent = request.kind === 'create' ? scalarText(said ?? null) : parentOfRow(request.key);
      if (parent === undefined || parent === '')
        outcomes[place] =
          request.kind === 'create'
            ? { kind: 'refused', words: `it is not said whose row it is (${this.#rows.parentField})` }
            : { kind: 'gone' };
      else {
        const group = groups.get(parent) ?? [];
        group.push({ place, request });
        groups.set(parent, group);
      }
    }
    return groups;
  }

  async #writeParent(parentKey: string, asked: readonly Asked[]): Promise<readonly WriteOutcome[]> {
    for (let tries = 1; ; tries += 1) {
      const parent = await this.#parents.readOne(recordKey(parentKey));
      const list = parent && this.#listOf(parent);
      if (!parent || typeof list === 'string')
        return asked.map(({ request }) =>
          withoutParent(request, parentKey, typeof list === 'string' ? list : undefined),
        );
      const editing = new ListEditing(this.#rows, parent.key, list ?? []);
      const ends = asked.map(({ request }) => editing.apply(request));
      const changes = ends.filter((end) => typeof end === 'number');
      if (changes.length === 0) return ends as WriteOutcome[];
      const { rows, keys } = editing.finish();
      const answer = await this.#writeList(parent, rows);
      if (answer.kind === 'raced' && tries < mostTries) continue;
      // One row that is not taken keeps no other from being written.
      if (answer.kind === 'refused' && changes.length > 1) return this.#oneByOne(parentKey, asked);
      if (answer.kind !== 'written') return ends.map((end) => (typeof end === 'number' ? answer : end));
      const now = answer.record ?? (await this.#parents.readOne(parent.key));
      const written = new Map((now ? this.#goodRowsOf(now) : []).map((row) => [row.key, row]));
      return ends.map((end) => (typeof end === 'number' ? writtenAs(keys[end] as RowMeant, written) : end));
    }
  }

  async #writeList({ key, version }: SourceRecord, rows: readonly Raw[]): Promise<WriteOutcome> {
    const fields = new Map<FieldPath, Raw>([[this.#rows.list, rows]]);
    return (await this.#parents.write([{ kind: 'update', key, version, fields }]))[0] as WriteOutcome;
  }

  async #oneByOne(parentKey: string, asked: readonly Asked[]): Promise<readonly WriteOutcome[]> {
    const outcomes: WriteOutcome[] = [];
    for (const one of asked) outcomes.push(...(await this.#writeParent(parentKey, [one])));
    return outcomes;
  }

  /** The rows of a record, and in the place of what is none a reason. */
  #rowsOf(parent: SourceRecord): readonly (SourceRecord | string)[] {
    const list = this.#listOf(parent);
    if (typeof list === 'string') return [list];
    const keys = new RowKeys(this.#rows, parent.key);
    return (list ?? []).map((row, index) =>
      isRow(row)
        ? rowRecord(this.#rows, parent, keys.next(row), row, index + 1)
        : `row ${index + 1} of ${parent.key} in “${this.#rows.list}” has no fields: ` +
          stringifyExactJson(row).slice(0, 120),
    );
  }

  #goodRowsOf(parent: SourceRecord): readonly SourceRecord[] {
    return this.#rowsOf(parent).filter((row) => typeof row !== 'string');
  }

  /** Where there is no list there are no rows; a reason where something else is in its place. */
  #listOf(parent: SourceRecord): readonly Raw[] | undefined | string {
    const list = readPath(parent.fields, this.#rows.list);
    if (list === undefined || list === null) return undefined;
    return Array.isArray(list) ? (list as readonly Raw[]) : `${parent.key} has no list in “${this.#rows.list}”`;
  }
}

/** @param beginning of the keys of the rows of one record */
function pageOf(rows: readonly (SourceRecord | string)[], beginning: string): Page {
  const unusable = rows.filter((row) => typeof row === 'string').map((reason): UnusableRecord => ({ reason }));
  return {
    records: rows.filter((row) => typeof row !== 'string'),
    unusable,
    // What could not be read may be one of those that seem to be missing.
    ...(unusable.length === 0 ? { wholeUnder: [beginning] } : {}),
  };
}

function joined(one: Page, other: Page): Page {
  return {
    ...one,
    records: [...one.records, ...other.records],
    unusable: [...one.unusable, ...other.unusable],
    wholeUnder: [...(one.wholeUnder ?? []), ...(other.wholeUnder ?? [])],
  };
}

/** @param written the rows as they are now */
function writtenAs({ key, kind }: RowMeant, written: ReadonlyMap<RecordKey, SourceRecord>): WriteOutcome {
  if (kind === 'delete') return { kind: 'written', key, record: undefined };
  const record = written.get(key);
  if (!record && kind === 'create')
    return { kind: 'unknown', words: 'the answer does not have the row that was added' };
  return { kind: 'written', key, record };
}

function withoutParent(request: WriteRequest, parent: string, problem: string | undefined): WriteOutcome {
  if (problem !== undefined) return { kind: 'refused', words: problem };
  if (request.kind === 'create') return { kind: 'refused', words: `there is no record ${parent} that it could be in` };
  return { kind: 'gone' };
}
