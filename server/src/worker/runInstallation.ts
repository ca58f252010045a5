import { v7 as uuid } from 'uuid';
import type { Clock } from '@anchor-knot/connectors';
import { recordAddress } from '@anchor-knot/contracts';
import type { Timing } from '@anchor-knot/core';
import type { LoadedKnot } from '../knots/knots.js';
import type { Installation } from '../orchestration/installation.js';
import { detailRuns } from '../persistence/tables/exchanges.js';
import { ExchangeRecorder } from '../runs/exchangeRecorder.js';
import { memberSummaries } from '../views/summaries.js';
import type { WorkerParts } from './workerParts.js';

/**
 * What a run of a knot touches on this worker, whether it drives the run or does a part of it.
 * @returns with it what keeps its calls, where somebody wants to look into them, and the system of each member
 */
export async function runInstallation(
  { data, store, systems }: Pick<WorkerParts, 'data' | 'store' | 'systems'>,
  clock: Clock,
  knot: LoadedKnot,
  run: string,
  { callShare, rank }: Timing,
) {
  const summaries = memberSummaries(knot.definition, await systems.all());
  const summaryOf = new Map(summaries.map((summary) => [summary.id, summary]));
  const systemOf = new Map(summaries.map(({ id: member, system }) => [member, system]));
  const isKept = (await detailRuns(data, knot.definition.id)) > 0;
  const recorder = isKept ? new ExchangeRecorder(data, run, knot.compiled) : undefined;
  const share = { knot: knot.definition, percent: callShare, isLast: rank === 'last' };
  const installation: Installation = {
    store,
    clock,
    nextId: () => uuid(),
    connect: (member) => systems.connect(member, clock, recorder?.listenerOf(member.id), share),
    systemName: (member) => summaryOf.get(member)?.systemName ?? member,
    recordPage: (member, key) => recordAddress(summaryOf.get(member)?.recordPage ?? null, key) ?? undefined,
  };
  return { installation, recorder, systemOf };
}
