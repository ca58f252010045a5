import type { AnchorId, MemberId } from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import { bindReferences } from './bindReferences.js';
import { entryOf, storeEnds, writeAll } from './applyPlan.js';
import type { AnchorRange } from './batch.js';
import type { Installation, RunOptions } from './installation.js';
import type { RunLease } from './lease.js';
import type { Intent } from './stored.js';
import type { MemberTrouble } from './runResult.js';
import { isStillWanted, lookAfter, type WriteEnd } from './writeOperations.js';

export interface Resolved {
  /** Anchors for which a creation may have happened and nobody can tell. */
  readonly unclear: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>;
  readonly troubles: readonly MemberTrouble[];
  readonly ends: readonly WriteEnd[];
}

/** Writes that a worker began that died in the middle of this run. */
export interface LeftBehind {
  /** Of which anchors; all where it is left out. */
  readonly range?: AnchorRange | undefined;
  readonly stopped: () => boolean;
}

/**
 * Writes that an earlier run began and never concluded are looked up, so that none is repeated blindly and none is
 * forgotten.
 * @param leftBehind where they belong to this run: those that certainly did not happen are made
 */
export async function resolveIntents(
  installation: Installation,
  options: RunOptions,
  lease: RunLease,
  connectors: ReadonlyMap<MemberId, Connector>,
  leftBehind?: LeftBehind,
): Promise<Resolved> {
  const { store } = installation;
  const intents = await store.openIntents(lease.knot, leftBehind?.range);
  const unclear = new Map<AnchorId, Set<MemberId>>();
  const troubles = new Map<MemberId, MemberTrouble>();
  const block = ({ operation }: Intent): void =>
    void unclear.set(operation.anchor, (unclear.get(operation.anchor) ?? new Set()).add(operation.member));
  const anchors = await store.loadAnchors(lease, [...new Set(intents.map(({ operation }) => operation.anchor))]);
  const ends: WriteEnd[] = [];
  const again: Intent[] = [];
  for (const intent of intents) {
    const { operation } = intent;
    const anchor = anchors.get(operation.anchor)?.anchor;
    const tied = anchor?.ties.some(({ member }) => member === operation.member);
    if (operation.kind === 'create' && tied)
      ends.push({
        intent,
        state: 'not done',
        result: { kind: 'not done' },
        words: 'the record has been tied meanwhile',
      });
    else if (intent.unclear) block(intent);
    else if (troubles.has(operation.member) || !connectors.has(operation.member)) block(intent);
    else {
      try {
        const connector = connectors.get(operation.member) as Connector;
        const end = await lookAfter(installation, options.knot, connector, intent);
        if (end.state === 'unclear') {
          block(intent);
          await store.markUnclear(lease, [intent.id]);
        }
        const isLeft = leftBehind !== undefined && end.state === 'not done';
        if (isLeft && (await isStillWanted(options.knot, connector, operation))) again.push(intent);
        else ends.push(end);
      } catch (error) {
        if (!(error instanceof SystemTrouble)) throw error;
        // Until that system can be asked, nothing is created there for this anchor.
        troubles.set(operation.member, {
          member: operation.member,
          code: error.code,
          words: error.message,
          advice: error.advice,
        });
        block(intent);
      }
    }
  }
  if (leftBehind && again.length > 0) {
    const merged = new Map([...anchors].map(([id, { anchor }]) => [id, anchor]));
    ends.push(...(await writeAll(installation, options, connectors, again, merged, troubles, leftBehind.stopped)));
  }
  const bound = { ...options, knot: await bindReferences(installation.store, options.knot, [...anchors.values()]) };
  const entries = [...anchors.values()].map(({ anchor, revision }) => ({
    ...entryOf(installation, bound, anchor),
    stored: revision,
  }));
  await storeEnds(installation, options, lease, entries, ends);
  return { unclear, troubles: [...troubles.values()], ends };
}
