import { existsSync, readFileSync } from 'node:fs';
import { basename, dirname, resolve } from 'node:path';
import { v7 as uuid } from 'uuid';
import { FilesConnector, SystemTrouble } from '@anchor-knot/connectors';
import {
  describeIssues,
  type FilesSystem,
  knotFileSchema,
  pagesOf,
  recordAddress,
  hasObject,
} from '@anchor-knot/contracts';
import { type CompiledKnot, compileKnot, type Knot, recordKeyPath } from '@anchor-knot/core';
import type { RunResult } from '../orchestration/runResult.js';
import { runKnot } from '../orchestration/runKnot.js';
import { PostgresStore } from '../persistence/postgresStore.js';
import { countOpenDecisions, forgetEarlierRuns } from '../persistence/tables/fileRuns.js';
import { systemClock } from '../worker/systemClock.js';
import { explained } from './fullDisk.js';
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
    return hasObject(known, object)
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
  return new FilesConnector(systems[system] as FilesSystem, object, {
    folder: dirname(file),
    clock: systemClock,
    // The command line reads what its user may read.
    links: 'anywhere',
  });
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
  readonly waiting: number;
}

/** Columns that mappings name and a member's file does not have: nothing could be read from or written to them. */
async function missingColumns(file: FileKnot): Promise<{ readonly at: string; readonly says: string }[]> {
  const found = await Promise.all(
    file.knot.members.map(async ({ id, system, object }) => {
      const connector = connectorOf(file, system, object);
      // What is wrong with the file itself is told when it is read.
      const schema = await connector.describe().catch(() => undefined);
      if (!schema || file.systems[system]?.objects[object]?.format !== 'csv') return [];
      const columns = new Set(schema.fields.map(({ path }) => path));
      return file.knot.fields.flatMap((field) => {
        const column = field.mappings.get(id)?.field;
        if (column === undefined || column === recordKeyPath || columns.has(column)) return [];
        const there = [...columns].join(', ');
        return [
          {
            at: `knot.fields.${field.id}.mappings.${id}`,
            says: `there is no column “${column}”; there are ${there}`,
          },
        ];
      });
    }),
  );
  return found.flat();
}

/** Runs a knot over its files, with no server. A dry run writes nothing but its plan. @throws {BadKnotFile} */
export async function runFileKnot(
  file: FileKnot,
  options: {
    readonly kind: 'run' | 'dry run';
    readonly stateFolder?: string | undefined;
    readonly overGuards: boolean;
  },
): Promise<FileRun> {
  const missing = await missingColumns(file);
  if (missing.length > 0) throw new BadKnotFile(file.file, missing);
  const path = options.stateFolder ?? `${file.file.replace(/(\.knot)?\.json$/, '')}.state`;
  try {
    return await runIn(path, file, options);
  } catch (error) {
    throw explained(error, path);
  }
}

async function runIn(
  path: string,
  file: FileKnot,
  options: { readonly kind: 'run' | 'dry run'; readonly overGuards: boolean },
): Promise<FileRun> {
  const folder = await StateFolder.open(path, file.definition);
  try {
    const run = uuid();
    const end = await runKnot(
      {
        store: new PostgresStore(folder.database),
        clock: systemClock,
        nextId: () => uuid(),
        connect: async ({ system, object }) => connectorOf(file, system, object),
        systemName: (member) => file.systems[file.knot.member(member).system]?.name ?? member,
        recordPage: (member, key) => {
          const { system, object } = file.knot.member(member);
          const description = file.systems[system];
          const page = description ? pagesOf(description, object).recordPage : null;
          return recordAddress(page, key) ?? undefined;
        },
      },
      {
        run,
        knot: file.knot,
        knotVersion: folder.version,
        kind: options.kind,
        startedBy: 'command line',
        leaseMs: 24 * 3_600_000,
        overGuards: options.overGuards,
        full: true,
      },
    );
    if (end.kind === 'busy') throw new Error(`${basename(file.file)} is being run already`);
    if (options.kind === 'dry run') await folder.savePlan(run);
    else {
      await folder.saveJournal();
      await folder.saveLists();
    }
    await forgetEarlierRuns(folder.database, file.knot.id, run);
    await folder.database.tidy();
    return { result: end.result, waiting: await countOpenDecisions(folder.database, file.knot.id) };
  } finally {
    await folder.close();
  }
}
