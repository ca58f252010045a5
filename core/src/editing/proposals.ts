import type { Knot, SharedField } from '../definition/index.js';
import type { Crosswalk } from '../mapping/index.js';
import type { ProposedCell, ProposedField, TurnedDown } from '../proposal/index.js';
import type { Edit } from './edit.js';
import { changeField, newMapping } from './fieldEdits.js';

/** What is proposed for a shared field, as it is shown: reasons in words. */
export interface FieldProposal extends Omit<ProposedField, 'cells' | 'crosswalk'> {
  readonly cells: readonly (Omit<ProposedCell, 'reasons'> & { readonly reasons: readonly string[] })[];
  readonly crosswalk: Crosswalk | null;
}

/**
 * The proposal without the cells that a person turned down: as few are left out as break all pairs that were refused.
 */
function withoutRefused(proposal: FieldProposal, definition: Knot, refused: ReadonlySet<string>): FieldProposal {
  let left = proposal;
  for (;;) {
    const counted = left.cells.map(({ member }) => ({
      member,
      pairs: pairsOf(left, member, definition).filter((pair) => refused.has(pairName(pair))).length,
    }));
    const [worst] = counted.toSorted((a, b) => b.pairs - a.pairs);
    if (!worst || worst.pairs === 0) return left;
    left = { ...left, cells: left.cells.filter(({ member }) => member !== worst.member) };
  }
}

const pairName = ({ member, field, with: other }: TurnedDown): string => JSON.stringify([member, field, other]);

/**
 * What is still to be proposed: cells whose place and field are free, and that nobody turned down; new shared fields
 * with two cells or more.
 */
export function openProposals(
  all: readonly FieldProposal[],
  definition: Knot,
  turnedDown: readonly TurnedDown[] = [],
): FieldProposal[] {
  const refused = new Set(turnedDown.map(pairName));
  const proposals = all.map((proposal) => withoutRefused(proposal, definition, refused));
  const taken = new Set(
    definition.fields.flatMap(({ mappings }) =>
      Object.entries(mappings).map(([member, { field }]) => `${member} ${field}`),
    ),
  );
  const members = new Set(definition.members.map(({ id }) => id));
  return proposals.flatMap((proposal) => {
    const known = definition.fields.find(({ id }) => id === proposal.id);
    if (!known && !proposal.isNew) return [];
    const cells = proposal.cells.filter(
      (cell) => members.has(cell.member) && !taken.has(`${cell.member} ${cell.field}`) && !known?.mappings[cell.member],
    );
    return cells.length >= (known ? 1 : 2) ? [{ ...proposal, isNew: !known, cells }] : [];
  });
}

/**
 * Takes proposals into the definition. The first that tells records apart becomes a key rule where there is none, the
 * first text the title.
 */
export function accept(proposals: readonly FieldProposal[]): Edit {
  return (definition) => {
    let changed = definition;
    for (const proposal of proposals) {
      if (!changed.fields.some(({ id }) => id === proposal.id)) {
        const field: SharedField = {
          id: proposal.id,
          name: proposal.name,
          type: proposal.type,
          ...(proposal.refersTo === undefined ? {} : { refersTo: proposal.refersTo }),
          rule: { steps: [{ step: 'newest' }, { step: 'ask' }] },
          mappings: {},
        };
        changed = { ...changed, fields: [...changed.fields, field] };
      }
      const mappings = Object.fromEntries(
        proposal.cells.map(({ member, field, direction, steps }) => [member, newMapping(field, direction, steps)]),
      );
      changed = changeField(changed, proposal.id, (field) => ({
        ...field,
        mappings: { ...mappings, ...field.mappings },
      }));
      if (proposal.crosswalk && !changed.crosswalks[proposal.id])
        changed = { ...changed, crosswalks: { ...changed.crosswalks, [proposal.id]: proposal.crosswalk } };
    }
    const ranked = proposals
      .filter(({ isKey, id }) => isKey && changed.fields.some((field) => field.id === id))
      .toSorted((a, b) => Number(b.type === 'email') - Number(a.type === 'email'));
    const [key] = ranked;
    if (changed.keyRules.length === 0 && key)
      changed = {
        ...changed,
        keyRules: [{ name: key.name, fields: [{ field: key.id, normalise: key.type === 'email' ? 'email' : 'text' }] }],
      };
    if (changed.titleField === '')
      changed = {
        ...changed,
        titleField:
          (changed.fields.find(({ id, type }) => type === 'text' && id !== 'id') ?? changed.fields[0])?.id ?? '',
      };
    return changed;
  };
}

/** What is to be remembered of a proposed cell that a person does not want: the pairs that it would have made. */
export function pairsOf(proposal: FieldProposal, member: string, definition: Knot): TurnedDown[] {
  const cell = proposal.cells.find((one) => one.member === member);
  if (!cell) return [];
  const order = definition.members.map(({ id }) => id);
  const known = definition.fields.find(({ id }) => id === proposal.id);
  const others = [
    ...proposal.cells.filter((one) => one.member !== member).map((one) => ({ member: one.member, field: one.field })),
    ...Object.entries(known?.mappings ?? {}).map(([id, { field }]) => ({ member: id, field })),
  ];
  return others.map((other) =>
    order.indexOf(other.member) < order.indexOf(member)
      ? { member, field: cell.field, with: other.field }
      : { member: other.member, field: other.field, with: cell.field },
  );
}
