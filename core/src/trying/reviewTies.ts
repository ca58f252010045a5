import type { Knot } from '../definition/index.js';
import type { FieldId, MemberId } from '../record/index.js';
import type { Finding } from './finding.js';
import { readableFields } from './readableFields.js';

/**
 * What can never happen by this definition, and would not be noticed: that a thing begins, and that a record is tied to
 * those of other systems.
 */
export function reviewTies(knot: Knot): Finding[] {
  const findings: Finding[] = [];
  if (knot.members.length > 0 && !knot.members.some(({ startsAnchors }) => startsAnchors))
    findings.push({
      kind: 'warns',
      at: 'members',
      says: `no member may start a new ${knot.thing}: only what is tied already is kept the same`,
    });
  if (knot.members.length < 2 || knot.fields.length === 0) return findings;
  const comparable = new Map(knot.members.map(({ id }) => [id, comparableFields(knot, id)]));
  const ways = waysToTie(knot);
  for (const { id, startsAnchors, may } of knot.members) {
    const canMeet = ways.some((fields) =>
      knot.members.some(
        (other) => other.id !== id && holds(comparable, id, fields) && holds(comparable, other.id, fields),
      ),
    );
    if (canMeet) continue;
    const before = 'no record there can be tied to one of another system: ';
    const why = 'no key rule and no evidence compares what is mapped both there and elsewhere';
    const then = startsAnchors || may.create ? `; each one there already would be a ${knot.thing} of its own` : '';
    findings.push({ kind: 'warns', at: `members.${id}`, says: before + why + then });
  }
  return findings;
}

/** Sets of fields: a record that holds all of one, as another does, can be tied to it. */
function waysToTie({ keyRules, evidence }: Pick<Knot, 'evidence' | 'keyRules'>): readonly (readonly FieldId[])[] {
  const byKeys = keyRules.map(({ fields }) => fields.map(({ field }) => field));
  const byEvidence = (evidence?.fields ?? []).flatMap(({ fields }) => fields.map((field) => [field]));
  return [...byKeys, ...byEvidence].filter((fields) => fields.length > 0);
}

/** Computed fields count as there: whether their formula has a value depends on the record. */
function comparableFields(knot: Pick<Knot, 'crosswalks' | 'fields'>, member: MemberId): ReadonlySet<FieldId> {
  const mapped = readableFields(knot, member).filter(({ lens, comparing }) => lens.reads || comparing);
  const computed = knot.fields.filter(({ formula }) => formula !== undefined);
  return new Set([...mapped.map(({ field }) => field), ...computed.map(({ id }) => id)]);
}

function holds(
  comparable: ReadonlyMap<MemberId, ReadonlySet<FieldId>>,
  member: MemberId,
  fields: readonly FieldId[],
): boolean {
  return fields.every((field) => comparable.get(member)?.has(field));
}
