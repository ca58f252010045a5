import type { Anchor, CompiledKnot } from '@anchor-knot/core';
import { indexOfAnchors } from '../orchestration/indexAnchors.js';
import { titleOf } from '../orchestration/planAnchors.js';
import type { AnchorSave } from '../persistence/tables/anchors.js';

/** An anchor that a person has changed, ready to be stored: the next run merges it. */
export function openSave(knot: CompiledKnot, anchor: Anchor): AnchorSave {
  const [index = { keys: [], evidence: [] }] = indexOfAnchors(knot, [anchor]);
  return { anchor, open: true, title: titleOf(knot, anchor), index };
}
