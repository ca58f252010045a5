import {
  type AnchorView,
  causeSchema,
  type Cell,
  type Decision,
  type JournalEntry,
  type MemberSummary,
} from '@anchor-knot/contracts';
import {
  type Anchor,
  type CompiledField,
  presentOf,
  type Raw,
  sameShared,
  type Shared,
  type Tie,
} from '@anchor-knot/core';
import type { LoadedKnot } from '../knots/knots.js';

type JsonOf = NonNullable<Cell['raw']>;

/** An anchor for the grid: what is agreed, and what each system says, field by field. */
export function anchorView(
  knot: LoadedKnot,
  anchor: Anchor,
  title: string,
  agrees: boolean,
  members: readonly MemberSummary[],
  decisions: readonly Decision[],
  journal: readonly JournalEntry[],
  referring: AnchorView['referring'],
): AnchorView {
  const ties = new Map(anchor.ties.map((tie) => [tie.member, tie]));
  return {
    id: anchor.id,
    knot: knot.id,
    knotName: knot.definition.name,
    thing: knot.definition.thing,
    title,
    agrees,
    members: members.map((member) => {
      const tie = ties.get(member.id);
      return {
        ...member,
        key: tie?.key ?? null,
        gone: tie?.gone ?? false,
        rejected: [...(tie?.rejected ?? [])],
        parked: tie?.parked?.words ?? anchor.parkedCreates[member.id]?.words ?? null,
        unacknowledgedSince:
          tie?.unacknowledgedSince === undefined || tie.gone ? null : new Date(tie.unacknowledgedSince).toISOString(),
        told: toldTo(tie),
      };
    }),
    fields: knot.compiled.fields.map((field) => {
      const agreed = anchor.agreed[field.id];
      return {
        id: field.id,
        name: field.name,
        type: field.type,
        agreed: agreed
          ? {
              value: agreed.value as JsonOf | null,
              by: agreed.by,
              at: new Date(agreed.at).toISOString(),
              why: causeSchema.parse(agreed.why),
            }
          : null,
        cells: Object.fromEntries(members.map(({ id }) => [id, cellOf(field, id, ties.get(id), agreed?.value)])),
      };
    }),
    decisions: [...decisions],
    journal: [...journal],
    referring,
  };
}

function toldTo(tie: Tie | undefined): AnchorView['members'][number]['told'] {
  return Object.entries(tie?.outcomes ?? {}).flatMap(([of, { told }]) =>
    told
      ? [
          {
            of,
            state: told.state,
            words: told.words ?? null,
            at: new Date(told.at).toISOString(),
            refused: told.refused ?? null,
          },
        ]
      : [],
  );
}

function cellOf(field: CompiledField, member: string, tie: Tie | undefined, agreed: Shared | undefined): Cell {
  const mapping = field.mappings.get(member);
  const blank = {
    raw: null,
    meaning: null,
    reason: null,
    direction: mapping?.direction ?? null,
    path: mapping?.field ?? null,
  };
  if (!mapping) return { ...blank, state: 'no mapping' };
  const raw = tie ? presentOf(tie, undefined, field.id) : undefined;
  if (!tie || raw === undefined) return { ...blank, state: 'not sent' };
  const read = mapping.lens.inbound(raw, agreed);
  const shown = { ...blank, raw: raw as JsonOf | null, meaning: read.ok ? (read.value as JsonOf | null) : null };
  if (tie.rejected) return { ...shown, state: 'rejected' };
  if (!read.ok && mapping.lens.reads) return { ...shown, state: 'unreadable', reason: read.reason };
  if (tie.ahead[field.id]) return { ...shown, state: 'ahead' };
  const agrees =
    agreed !== undefined && (mapping.lens.means(raw as Raw, agreed) || (read.ok && sameShared(read.value, agreed)));
  return {
    ...shown,
    state: agrees ? 'agrees' : agreed === undefined && read.ok && read.value === null ? 'agrees' : 'differs',
  };
}
