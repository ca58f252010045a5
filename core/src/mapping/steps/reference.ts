import { type AnchorId, anchorId, failed, good, type References } from '../../record/index.js';
import { type ReferenceStep, type StepLens, textOf } from '../step.js';

/**
 * A system's way of naming a thing of another knot, and the thing. What nothing is known by waits, and so does a thing
 * that has no name there yet, unless the step says otherwise.
 * @param knot the knot whose things are referred to
 * @param references what was looked up beforehand
 */
export function referenceLens({ by, notFound }: ReferenceStep, knot: string, references: References): StepLens {
  return {
    // What a thing is told as, for want of a name of its own, means that thing as long as it is the agreed one.
    usesHeld: references.hasToldAs(knot, by),
    inbound(value, held) {
      const text = textOf(value)?.trim();
      if (text === undefined) return failed('a list or an object refers to nothing: say which part of it is the key');
      const found = references.find(knot, by, text);
      switch (found.kind) {
        case 'one': {
          const meant = references.current(found.anchor);
          const agreed = typeof held === 'string' ? references.current(anchorId(held)) : undefined;
          return good(agreed && references.isToldAs(knot, by, agreed, meant) ? agreed : meant);
        }
        case 'nobody':
          return good(null);
        case 'several':
          return failed(`“${text}” could be several things there`);
        case 'not looked up':
          return failed('what it refers to is not looked up here');
        case 'none':
          if (notFound === 'blank') return good(null);
          if (notFound) return good(references.current(notFound.instead));
          return failed(`“${text}” is not known there`, { knot, by, value: text });
        default:
          throw new Error(`unknown answer ${JSON.stringify(found satisfies never)}`);
      }
    },
    outbound(value) {
      const anchor: AnchorId = references.current(anchorId(String(value)));
      const name = references.nameOf(knot, by, anchor);
      return name === undefined ? failed('what it refers to is not there yet', { knot, by, anchor }) : good(name);
    },
  };
}
