import {
  appendFileSync,
  closeSync,
  existsSync,
  fsyncSync,
  mkdirSync,
  openSync,
  readFileSync,
  renameSync,
  rmSync,
  writeFileSync,
  writeSync,
} from 'node:fs';
import { join } from 'node:path';
import { z } from 'zod';
import { changedMappings, type Knot } from '@anchor-knot/core';
import type { InstallationState } from '../orchestration/inMemoryStore.js';
import type { DecisionDraft, JournalRow } from '../orchestration/store.js';

const stateVersion = 1;
const stateSchema = z.object({
  stateVersion: z.literal(stateVersion),
  knot: z.string(),
  definition: z.unknown(),
  state: z.object({
    anchors: z.array(z.tuple([z.string(), z.unknown()])),
    outside: z.array(z.unknown()),
    decisions: z.array(z.unknown()),
    intents: z.array(z.unknown()),
    cursors: z.array(z.unknown()),
    token: z.number(),
  }),
});

/** What the command line keeps between runs: the engine's state, the journal, and lists of what needs a person. */
export class StateFolder {
  readonly #folder: string;
  readonly #knot: string;
  readonly #definition: Knot;

  constructor(folder: string, definition: Knot) {
    this.#folder = folder;
    this.#knot = definition.id;
    this.#definition = definition;
  }

  /** Takes the folder for this process. @throws when another process has it, or what is in it is of something else */
  open(): { readonly state: InstallationState | undefined; readonly definitionChanged: boolean } {
    mkdirSync(this.#folder, { recursive: true });
    const lock = this.#path('lock');
    if (existsSync(lock) && isAlive(Number(readFileSync(lock, 'utf8'))))
      throw new Error(
        `${this.#folder} is in use by another run (process ${readFileSync(lock, 'utf8')}). Wait until it has ended.`,
      );
    writeFileSync(lock, String(process.pid));
    if (!existsSync(this.#path('state.json'))) return { state: undefined, definitionChanged: false };
    const kept = this.#read();
    if (kept.knot !== this.#knot)
      throw new Error(
        `${this.#folder} holds the state of the knot “${kept.knot}”, not of “${this.#knot}”. Choose another ` +
          'folder with --state.',
      );
    const state = kept.state as unknown as InstallationState;
    const before = kept.definition as Knot;
    return {
      state: forgetChanged(state, before, this.#definition),
      definitionChanged: JSON.stringify(before) !== JSON.stringify(this.#definition),
    };
  }

  close(): void {
    rmSync(this.#path('lock'), { force: true });
  }

  /**
   * One transaction: the journal first, then the state in one step. After a crash in between, the journal has lines
   * twice, and the state is whole.
   */
  save(state: InstallationState, journal: readonly JournalRow[]): void {
    if (journal.length > 0)
      appendFileSync(
        this.#path('journal.jsonl'),
        lines(journal.map((row) => ({ ...row, at: new Date(row.at).toISOString() }))),
      );
    this.#replace(
      'state.json',
      JSON.stringify({ stateVersion, knot: this.#knot, definition: this.#definition, state }),
    );
  }

  /** Lists for people and scripts: held fields, rejected records, everything that waits. */
  saveLists({ decisions, anchors }: InstallationState): void {
    const titles = new Map(anchors.map(([id, { title }]) => [id, title]));
    const shown = (draft: DecisionDraft) => ({
      kind: draft.kind,
      title: draft.anchor === undefined ? undefined : titles.get(draft.anchor),
      member: draft.member,
      key: draft.key,
      field: draft.field,
      says: draft.says,
      detail: draft.detail,
    });
    this.#replace('held.jsonl', lines(decisions.filter(({ kind }) => kind === 'held').map(shown)));
    this.#replace('rejected.jsonl', lines(decisions.filter(({ kind }) => kind === 'rejected').map(shown)));
    this.#replace(
      'waiting.jsonl',
      lines(decisions.filter(({ kind }) => kind !== 'held' && kind !== 'rejected').map(shown)),
    );
  }

  savePlan(operations: readonly unknown[]): void {
    this.#replace('plan.jsonl', lines(operations));
  }

  #read(): z.output<typeof stateSchema> {
    try {
      return stateSchema.parse(JSON.parse(readFileSync(this.#path('state.json'), 'utf8')));
    } catch (cause) {
      throw new Error(
        `${this.#path('state.json')} cannot be read. Without it, records are matched anew by their keys: ` +
          'move the folder away to start so.',
        { cause },
      );
    }
  }

  #replace(name: string, text: string): void {
    const temporary = this.#path(`${name}.writing`);
    const handle = openSync(temporary, 'w', 0o600);
    try {
      writeSync(handle, text);
      fsyncSync(handle);
    } finally {
      closeSync(handle);
    }
    renameSync(temporary, this.#path(name));
  }

  #path(name: string): string {
    return join(this.#folder, name);
  }
}

/** What was seen through mappings that now read another field says nothing any more. */
function forgetChanged(state: InstallationState, before: Knot, after: Knot): InstallationState {
  const changed = new Map(changedMappings(before, after).map(({ member, fields }) => [member, new Set(fields)]));
  if (changed.size === 0) return state;
  const keep = <T>(member: string, values: Readonly<Record<string, T>>): Record<string, T> =>
    Object.fromEntries(Object.entries(values).filter(([field]) => !changed.get(member)?.has(field)));
  const anchors = state.anchors.map(([id, kept]): InstallationState['anchors'][number] => {
    const ties = kept.anchor.ties.map((tie) => ({
      ...tie,
      seen: keep(tie.member, tie.seen),
      ahead: keep(tie.member, tie.ahead),
    }));
    return [id, { ...kept, anchor: { ...kept.anchor, ties } }];
  });
  return { ...state, anchors };
}

function lines(rows: readonly unknown[]): string {
  return rows.map((row) => `${JSON.stringify(row)}\n`).join('');
}

function isAlive(pid: number): boolean {
  if (pid === process.pid) return false;
  try {
    process.kill(pid, 0);
    return true;
  } catch {
    return false;
  }
}
