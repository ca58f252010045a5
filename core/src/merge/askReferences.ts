import { type CompiledKnot, withReferences } from '../definition/index.js';
import { Questions } from '../mapping/index.js';
import { type AnchorId, anchorId, type FieldId, type MemberId } from '../record/index.js';
import type { Anchor, Reading } from './anchor.js';

/** What must be looked up before these anchors are merged with what was read of them. */
export function referenceQuestions(
  knot: CompiledKnot,
  anchors: readonly { readonly anchor: Anchor; readonly readings?: ReadonlyMap<MemberId, Reading> | undefined }[],
): Questions {
  const questions = new Questions();
  const asking = withReferences(knot, questions);
  for (const { id, refersTo, mappings } of asking.fields) {
    if (refersTo === undefined) continue;
    for (const { steps } of mappings.values())
      for (const step of steps) {
        if (step.kind !== 'reference') continue;
        questions.way(refersTo, step.by);
        if (typeof step.notFound === 'object') questions.thing(refersTo, step.notFound.instead);
      }
    for (const { anchor, readings } of anchors) {
      const agreed = anchor.agreed[id]?.value;
      if (typeof agreed === 'string') questions.thing(refersTo, anchorId(agreed));
      for (const { member, seen, ahead } of anchor.ties)
        for (const raw of [seen[id], ahead[id]?.raw, readings?.get(member)?.fields[id]])
          if (raw !== undefined) mappings.get(member)?.lens.inbound(raw, undefined);
    }
  }
  return questions;
}

/** Says of a thing under which other one it stands by now; nothing where nothing stands under anything. */
export function putLevel({ fields, levels }: CompiledKnot, { id, agreed }: Anchor): void {
  const field = levels && fields.find((one) => one.levels);
  if (!field) return;
  const above = agreed[field.id]?.value;
  levels.put(id, typeof above === 'string' ? anchorId(above) : undefined);
}

/** The things of other knots that an anchor refers to. */
export function referencesOf(
  knot: CompiledKnot,
  anchor: Anchor,
): readonly { readonly field: FieldId; readonly knot: string; readonly anchor: AnchorId }[] {
  return knot.fields.flatMap(({ id, refersTo }) => {
    const value = anchor.agreed[id]?.value;
    return refersTo !== undefined && typeof value === 'string'
      ? [{ field: id, knot: refersTo, anchor: anchorId(value) }]
      : [];
  });
}
