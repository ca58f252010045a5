import { anchorId, type MemberId, newTie, type RecordKey } from '@anchor-knot/core';
import { v7 as uuid } from 'uuid';
import { storeAnchor } from '../anchors/door.js';
import { openSave } from '../anchors/openSave.js';
import type { LoadedKnot } from '../knots/knots.js';
import type { SqlDatabase } from '../persistence/sql.js';
import { noteTie } from '../persistence/tables/journal.js';
import { takeFromLists } from '../persistence/tables/outsideRecords.js';
import { lockOutside } from '../persistence/tables/recordLists.js';

export type StartOutcome =
  { readonly kind: 'started'; readonly anchor: string } | { readonly kind: 'not possible'; readonly says: string };

/**
 * Lets a record start a thing although its member may start none: a person's word about this one record. The next run
 * merges it like any other.
 */
export async function startThing(
  data: SqlDatabase,
  knot: LoadedKnot,
  { member, key }: { readonly member: MemberId; readonly key: RecordKey },
  person: string,
  now: Date,
): Promise<StartOutcome> {
  return data.transaction(async (db) => {
    const outside = await lockOutside(db, knot.id, { member, key });
    if (!outside) return { kind: 'not possible', says: 'This record is tied by now, or not there any more.' };
    if (outside.reason !== 'untied' || outside.verdict !== undefined)
      return { kind: 'not possible', says: 'This record waits for another decision: see the list that it is in.' };
    const id = anchorId(uuid());
    const anchor = {
      id,
      agreed: {},
      ties: [newTie(member, key, outside.reading, now.getTime())],
      beganIn: [member],
      parkedCreates: {},
    };
    await takeFromLists(db, knot.id, { member, key });
    await storeAnchor(db, knot.id, undefined, openSave(knot.compiled, anchor), now.getTime());
    await noteTie(db, knot, id, { member, key }, 'tied', person, now);
    return { kind: 'started', anchor: id };
  });
}
