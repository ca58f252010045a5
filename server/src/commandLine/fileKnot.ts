import { existsSync, readFileSync } from 'node:fs';
import { basename, dirname, resolve } from 'node:path';
import { v7 as uuid } from 'uuid';
import { FilesConnector, SystemTrouble } from '@anchor-knot/connectors';
import { describeIssues, type FilesSystem, knotFileSchema } from '@anchor-knot/contracts';
import { type CompiledKnot, compileKnot, type Knot } from '@anchor-knot/core';
import { InMemoryStore } from '../orchestration/inMemoryStore.js';
import type { RunResult } from '../orchestration/store.js';
import { runKnot } from '../orchestration/runKnot.js';
import { systemClock } from '../worker/systemClock.js';
import { StateFolder } from './stateFolder.js';

/** A file that cannot be run: every reason with its place. */
export class BadKnotFile extends Error {
  readonly problems: readonly { readonly at: string; readonly says: string }[];
  constructor(file: string, problems: readonly { readonly at: string; readonly says: string }[]) {
    super(`${file} cannot be run:\n${problems.map(({ at, says }) => `  ${at}: ${says}`).join('\n')}`);
    this.problems = problems;
  }
}

export interface FileKnot {
  readonly file: string;
  readonly knot: CompiledKnot;
  readonly systems: Readonly<Record<string, FilesSystem>>;
  readonly definition: Knot;
}

/** Reads a knot file whose members are files. @throws {BadKnotFile} */
export function readFileKnot(path: string): FileKnot {
  const file = resolve(path);
  if (!existsSync(file)) throw new BadKnotFile(path, [{ at: 'the file', says: 'there is no such file' }]);
  let json: unknown;
  try {
    json = JSON.parse(readFileSync(file, 'utf8').replace(/^\uFEFF/, ''));
  } catch (error) {
    throw new BadKnotFile(path, [{ at: 'JSON', says: (error as Error).message }]);
  }
  const parsed = knotFileSchema.safeParse(json);
  if (!parsed.success) throw new BadKnotFile(path, describeIssues(parsed.error));
  const { knot: definition, systems = {} } = parsed.data;
  const missing = definition.members.flatMap(({ id, system, object }) => {
    const known = systems[system];
    if (!known)
      return [
        {
          at: `knot.members.${id}.system`,
          says: `this file brings no system “${system}”; give it under systems, as a folder of files`,
        },
      ];
    return known.objects[object]
      ? []
      : [{ at: `knot.members.${id}.object`, says: `the system “${system}” has no object “${object}”` }];
  });
  const compiled = compileKnot(definition);
  const problems = [
    ...missing,
    ...(compiled.ok ? [] : compiled.problems.map(({ at, says }) => ({ at: `knot.${at}`, says }))),
  ];
  if (!compiled.ok || problems.length > 0) throw new BadKnotFile(path, problems);
  return { file, knot: compiled.knot, systems, definition };
}

export function connectorOf({ file, systems }: FileKnot, system: string, object: string): FilesConnector {
  return new FilesConnector(systems[system] as FilesSystem, object, { folder: dirname(file), clock: systemClock });
}

/** Reads every file once, so that `check` also finds what is wrong with the data's form. */
export async function checkFiles(
  knot: FileKnot,
): Promise<{ readonly member: string; readonly records: number; readonly problems: readonly string[] }[]> {
  return Promise.all(
    knot.knot.members.map(async ({ id, system, object }) => {
      let records = 0;
      const problems: string[] = [];
      try {
        for await (const page of connectorOf(knot, system, object).read()) {
          records += page.records.length;
          problems.push(...page.unusable.map(({ reason }) => reason));
        }
      } catch (error) {
        if (!(error instanceof SystemTrouble)) throw error;
        problems.push(`${error.message}. ${error.advice}`);
      }
      return { member: id, records, problems };
    }),
  );
}

export interface FileRun {
  readonly result: RunResult;
  readonly operations: InMemoryStore['operations'];
  readonly waiting: number;
}

/** Runs a knot over its files, with no server and no database. A dry run writes nothing but its plan. */
export async function runFileKnot(
  file: FileKnot,
  options: {
    readonly kind: 'run' | 'dry run';
    readonly stateFolder?: string | undefined;
    readonly overGuards: boolean;
  },
): Promise<FileRun> {
  const folder = new StateFolder(
    options.stateFolder ?? `${file.file.replace(/(\.knot)?\.json$/, '')}.state`,
    file.definition,
  );
  const opened = folder.open();
  try {
    const isRun = options.kind === 'run';
    const store = new InMemoryStore(opened.state, async (state, journal) =>
      isRun ? folder.save(state(), journal) : undefined,
    );
    const end = await runKnot(
      {
        store,
        clock: systemClock,
        nextId: () => uuid(),
        connect: async ({ system, object }) => connectorOf(file, system, object),
        systemName: (member) => file.systems[file.knot.member(member).system]?.name ?? member,
      },
      {
        knot: file.knot,
        knotVersion: opened.definitionChanged ? 2 : 1,
        kind: options.kind,
        startedBy: 'command line',
        leaseMs: 24 * 3_600_000,
        overGuards: options.overGuards,
        full: true,
      },
    );
    if (end.kind === 'busy') throw new Error(`${basename(file.file)} is being run already`);
    const state = store.state();
    if (isRun) {
      // The definition that this state was made with is the first version of the next run.
      folder.save(
        { ...state, cursors: state.cursors.map(([member, cursor]) => [member, { ...cursor, knotVersion: 1 }]) },
        [],
      );
      folder.saveLists(state);
    } else folder.savePlan(store.operations);
    return { result: end.result, operations: store.operations, waiting: state.decisions.length };
  } finally {
    folder.close();
  }
}
