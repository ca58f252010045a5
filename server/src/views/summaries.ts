import { objectNames, pagesOf } from '@anchor-knot/contracts';
import type { MemberSummary, Run, System, SystemSummary, KnotStanding } from '@anchor-knot/contracts';
import type { Knot } from '@anchor-knot/core';
import type { RunRow, SystemRow } from '../persistence/entities/entities.js';
import type { StateRow } from '../persistence/tables/versions.js';
import type { RunJob } from '../worker/jobs.js';

export function runSummary(row: RunRow): Run {
  return {
    id: row.id,
    knot: row.knotId,
    knotVersion: row.knotVersion,
    kind: row.kind,
    startedBy: row.startedBy,
    cause: row.cause,
    startedAt: row.startedAt.toISOString(),
    endedAt: row.endedAt?.toISOString() ?? null,
    state: row.state,
    progress: row.progress as Run['progress'],
    troubles: [...row.troubles],
    guards: [...row.guards],
    words: row.words,
  };
}

/** A run that waits for a worker. */
export function waitingRun(job: { id: string; data: RunJob; createdOn: Date }, knotVersion: number): Run {
  return {
    id: job.id,
    knot: job.data.knot,
    knotVersion,
    kind: job.data.kind,
    startedBy: job.data.startedBy,
    // One that waited since before causes were kept was asked for by somebody.
    cause: (job.data.cause as RunJob['cause'] | undefined) ?? 'person',
    startedAt: job.createdOn.toISOString(),
    endedAt: null,
    state: 'waiting',
    progress: null,
    troubles: [],
    guards: [],
    words: null,
  };
}

/** Whether a knot runs, as people see it. */
export function standingView(row: StateRow | undefined): KnotStanding {
  return {
    state: row?.state ?? 'running',
    by: row?.state_by ?? null,
    at: row?.state_at?.toISOString() ?? null,
    until: row?.resume_at?.toISOString() ?? null,
    pausedTogether: row?.paused_together ?? false,
  };
}

/** The members of a knot with the systems behind them, for showing pennants. */
export function memberSummaries(knot: Knot, systems: readonly SystemRow[]): MemberSummary[] {
  const byId = new Map(systems.map((system) => [system.id, system]));
  return knot.members.map((member): MemberSummary => {
    const system = byId.get(member.system);
    return {
      id: member.id,
      system: member.system,
      systemName: system?.name ?? member.system,
      object: member.object,
      pennant: (system?.pennant as MemberSummary['pennant'] | undefined) ?? {
        pattern: 'border',
        colour: 'ink',
        letters: '??',
      },
      ...(system ? pagesOf(system.description, member.object) : { recordPage: null, listPage: null }),
    };
  });
}

const kindNames = {
  http: 'JSON over HTTP',
  odata: 'OData v4',
  sql: 'SQL database',
  files: 'folder of files',
  groups: 'counted here',
} as const satisfies Record<System['kind'], string>;

function addressOf(description: System): string {
  switch (description.kind) {
    case 'http':
    case 'odata':
      return description.address;
    case 'sql':
      return `${description.host}:${description.port}/${description.database}`;
    case 'files':
      return description.folder;
    case 'groups':
      return 'this installation';
    default:
      return description satisfies never;
  }
}

export function systemSummary(row: SystemRow, usedIn: SystemSummary['usedIn']): SystemSummary {
  const { description } = row;
  return {
    id: row.id,
    name: row.name,
    kind: kindNames[description.kind],
    address: addressOf(description),
    environment: row.environment,
    page: description.page ?? null,
    pennant: row.pennant as SystemSummary['pennant'],
    objects: [...objectNames(description)],
    pages: Object.fromEntries(objectNames(description).map((object) => [object, pagesOf(description, object)])),
    trouble: row.trouble,
    checkedAt: row.checkedAt?.toISOString() ?? null,
    usedIn,
  };
}
