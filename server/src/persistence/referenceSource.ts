import type { ReferenceSource } from '../orchestration/bindReferences.js';
import type { SqlConnection } from './sql.js';
import { anchorsWithKeys, tieHeads } from './tables/anchors.js';
import { goneAmong, tiesOf } from './tables/ties.js';
import { agreedTexts, keyRulesOf, redirects, thingsAbove } from './tables/references.js';
import { substitutesOf } from './tables/substitutes.js';

/** What references mean, as it is seen on a connection: within a transaction, as that one sees it. */
export function referenceSource(db: SqlConnection): ReferenceSource {
  return {
    tieHeads: (knot, member, keys) => tieHeads(db, knot, member, keys),
    anchorsWithKeys: (knot, keys) => anchorsWithKeys(db, knot, keys),
    tiesOf: (knot, anchors) => tiesOf(db, knot, anchors),
    agreedTexts: (knot, field, anchors) => agreedTexts(db, knot, field, anchors),
    redirects: (anchors) => redirects(db, anchors),
    keyRulesOf: (knot) => keyRulesOf(db, knot),
    substitutesOf: (knot, about) => substitutesOf(db, knot, about),
    goneAmong: (things) => goneAmong(db, things),
    thingsAbove: (field, things) => thingsAbove(db, field, things),
  };
}
