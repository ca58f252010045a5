import { spawnSync } from 'node:child_process';
import { mkdtempSync, readFileSync, renameSync, rmSync, writeFileSync } from 'node:fs';
import { tmpdir } from 'node:os';
import { join } from 'node:path';
import {
  type Anchor,
  type AnchorId,
  type CompiledKnot,
  compileKnot,
  type Knot,
  type MemberId,
  type Raw,
  recordId,
  type RecordKey,
  recordKey,
  type SourceRecord,
  writePath,
} from '@anchor-knot/core';
import type { HeldField, PlayedInstallation, PlayedOutcome, RunSettings } from '@anchor-knot/core/testing';
import { EmbeddedDatabase } from '../persistence/embeddedDatabase.js';
import { storedState, toldAsLost } from './storedState.js';

const betweenEvents = 10_000;

/**
 * The command line on files, each command a process of its own, as an installation that histories are played on. Writes
 * always succeed here, and nobody decides anything: what a history has of that does nothing.
 */
export class PlayedFiles implements PlayedInstallation {
  readonly records = new Map<MemberId, Map<RecordKey, SourceRecord>>();
  readonly readAt = new Map<string, number>();
  anchors: ReadonlyMap<AnchorId, Anchor> = new Map();
  knot: CompiledKnot;
  now = 0;
  readonly #folder = mkdtempSync(join(tmpdir(), 'anchor-knot-histories-'));
  #lastEntry = '0';

  constructor(definition: Knot) {
    this.knot = this.#put(definition);
    for (const { id } of definition.members) {
      this.records.set(id, new Map());
      this.#save(id);
    }
  }

  /** Removes its files. */
  end(): void {
    rmSync(this.#folder, { recursive: true, force: true });
  }

  edit(member: MemberId, key: string, path: string, value: Raw): void {
    this.now += betweenEvents;
    const records = this.records.get(member) as Map<RecordKey, SourceRecord>;
    const fields = writePath(records.get(recordKey(key))?.fields ?? { id: key }, path, value);
    records.set(recordKey(key), { key: recordKey(key), fields });
    this.#save(member);
  }

  delete(member: MemberId, key: string): void {
    this.now += betweenEvents;
    this.records.get(member)?.delete(recordKey(key));
    this.#save(member);
  }

  settle(): boolean {
    return false;
  }

  sayWhatFollows(): void {}

  untie(): boolean {
    return false;
  }

  putInForce(definition: Knot): void {
    this.knot = this.#put(definition);
  }

  async run({ missing = new Set() }: RunSettings = {}): Promise<PlayedOutcome> {
    this.now += betweenEvents;
    const there = [...this.records].filter(([member]) => !missing.has(member));
    const readable = new Set(there.flatMap(([member, all]) => [...all.keys()].map((key) => recordId({ member, key }))));
    for (const name of readable) this.readAt.set(name, this.now);
    for (const member of missing) renameSync(this.#path(member), `${this.#path(member)}.away`);
    const { status, stderr } = spawnSync(
      process.execPath,
      [join(import.meta.dirname, '../../dist/commandLine/main.js'), 'run', 'laws.knot.json', '--over-guards'],
      { cwd: this.#folder, encoding: 'utf8', env: { ...process.env, NODE_OPTIONS: '' } },
    );
    for (const member of missing) renameSync(`${this.#path(member)}.away`, this.#path(member));
    if (status !== (missing.size > 0 ? 1 : 0)) throw new Error(`the command ended with ${status}: ${stderr}`);
    for (const member of this.records.keys()) this.#load(member);
    return this.#outcome(readable);
  }

  async #outcome(readable: ReadonlySet<string>): Promise<PlayedOutcome> {
    const database = await EmbeddedDatabase.open(join(this.#folder, 'laws.state/database'));
    try {
      const before = this.#lastEntry;
      const { lost, last } = await toldAsLost(database, before);
      const written = (await database.query(
        `select distinct kind, member, record_key from journal where id > $1 and kind in ('create', 'update', 'archive',
          'delete')`,
        [before],
      )) as { kind: 'create'; member: MemberId }[];
      this.#lastEntry = last;
      const { anchors, held, places } = await storedState(database, this.knot.id);
      this.anchors = anchors;
      return {
        operations: written,
        held: held satisfies readonly HeldField[],
        lost,
        settled: [...anchors.values()].flatMap(({ id, agreed }) =>
          Object.entries(agreed).map(([field, { value, why }]) => ({ anchor: id, field, value, why })),
        ),
        places: new Map(
          [...this.records].flatMap(([member, all]) =>
            [...all.keys()].flatMap((key) => {
              const name = recordId({ member, key });
              return readable.has(name) ? [[name, places.get(name) ?? []] as const] : [];
            }),
          ),
        ),
      };
    } finally {
      await database.close();
    }
  }

  #put(definition: Knot): CompiledKnot {
    const compiled = compileKnot(definition);
    if (!compiled.ok) throw new Error(JSON.stringify(compiled.problems));
    const systems = Object.fromEntries(
      definition.members.map(({ id }) => [
        id,
        {
          kind: 'files',
          name: id,
          folder: '.',
          objects: { things: { path: `${id}.jsonl`, format: 'jsonl', key: 'id' } },
        },
      ]),
    );
    const file = { format: 'anchor-knot', formatVersion: 1, knot: definition, systems };
    writeFileSync(join(this.#folder, 'laws.knot.json'), JSON.stringify(file));
    return compiled.knot;
  }

  #path(member: MemberId): string {
    return join(this.#folder, `${member}.jsonl`);
  }

  #save(member: MemberId): void {
    const records = [...(this.records.get(member)?.values() ?? [])];
    writeFileSync(this.#path(member), records.map(({ fields }) => `${JSON.stringify(fields)}\n`).join(''));
  }

  #load(member: MemberId): void {
    const lines = readFileSync(this.#path(member), 'utf8').split('\n').filter(Boolean);
    const records = lines.map((line): [RecordKey, SourceRecord] => {
      const fields = JSON.parse(line) as SourceRecord['fields'];
      const key = recordKey(String(fields.id));
      return [key, { key, fields }];
    });
    this.records.set(member, new Map(records));
  }
}
