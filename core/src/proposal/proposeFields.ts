import type { Crosswalk, Direction, Step } from '../mapping/index.js';
import type { FieldId, FieldPath, FieldType, MemberId } from '../record/index.js';
import type { SourceField } from '../schema/index.js';
import { wordsOfName } from './fieldNames.js';
import type { Reason } from './pairEvidence.js';
import { proposePairs, type ProposedPair } from './proposePairs.js';
import { proposedCrosswalk, proposedSteps, type ProposedSource, proposedType } from './proposeTranslation.js';
import type { ObjectSketch } from './sketch.js';
import type { TiedRecords } from './tiedEvidence.js';

/** A member as proposals see it. */
export interface ProposalMember {
  readonly id: MemberId;
  readonly object: ObjectSketch;
  /** What the system says of its fields; fewer than were seen where it says nothing. */
  readonly fields: readonly SourceField[];
  readonly mayUpdate: boolean;
}

/** A shared field that is there already, with the fields that are mapped to it. */
export interface KnownField {
  readonly id: FieldId;
  readonly type: FieldType;
  readonly mappings: Readonly<Record<MemberId, { readonly field: FieldPath }>>;
}

export interface ProposedCell {
  readonly member: MemberId;
  readonly field: FieldPath;
  readonly direction: Direction;
  readonly steps: readonly Step[];
  readonly confidence: number;
  readonly reasons: readonly Reason[];
}

/** A shared field, new or known, with the cells that are proposed for it. */
export interface ProposedField {
  readonly id: FieldId;
  readonly name: string;
  readonly type: FieldType;
  readonly isNew: boolean;
  /** Its values tell records apart in each member, so that it can serve as a key rule. */
  readonly isKey: boolean;
  readonly cells: readonly ProposedCell[];
  readonly crosswalk?: Crosswalk | undefined;
  /** Of a reference: the knot whose things it holds. */
  readonly refersTo?: string | undefined;
}

export interface TurnedDown {
  readonly member: MemberId;
  readonly field: FieldPath;
  /** The shared field, or the member and field of the other side. */
  readonly with: FieldPath;
}

interface Cluster {
  readonly known: KnownField | undefined;
  readonly fields: Map<MemberId, { readonly path: FieldPath; readonly pair: ProposedPair | undefined }>;
}

/**
 * Shared fields for members: each member is paired with the fields of those before it, in the order of members; what
 * corresponds to nothing is left out. Fields that are mapped already stay with their shared field.
 */
export function proposeFields(
  members: readonly ProposalMember[],
  known: readonly KnownField[],
  turnedDown: readonly TurnedDown[] = [],
): ProposedField[] {
  const clusters: Cluster[] = known.map((field) => ({
    known: field,
    fields: new Map(
      Object.entries(field.mappings).map(([member, { field: path }]) => [member, { path, pair: undefined }]),
    ),
  }));
  const mapped = new Set(
    clusters.flatMap(({ fields }) => [...fields].map(([member, { path }]) => `${member} ${path}`)),
  );
  const refused = new Set(turnedDown.flatMap(({ member, field, with: other }) => [`${member} ${field} ${other}`]));
  const tied = new Map<string, TiedRecords>();
  for (const [index, member] of members.entries()) {
    for (const earlier of members.slice(0, index)) {
      const proposals = proposePairs(
        earlier.object,
        member.object,
        (left, right) =>
          refused.has(`${member.id} ${right} ${left}`) ||
          (mapped.has(`${earlier.id} ${left}`) && mapped.has(`${member.id} ${right}`)),
      );
      tied.set(`${earlier.id} ${member.id}`, proposals.tied);
      for (const pair of proposals.pairs) place(clusters, earlier.id, member.id, pair);
    }
  }
  const names = new Set(known.map(({ id }) => id));
  return clusters.flatMap((cluster) => {
    const fresh = [...cluster.fields].filter(([, { pair }]) => pair !== undefined);
    if (fresh.length === 0) return [];
    return [describe(cluster, members, tied, names)];
  });
}

/** Puts a pair into the cluster of the earlier member's field, or of the later one's, or into a new one. */
function place(clusters: Cluster[], earlier: MemberId, later: MemberId, pair: ProposedPair): void {
  const holds = (member: MemberId, path: FieldPath) => clusters.find(({ fields }) => fields.get(member)?.path === path);
  const [left, right] = [holds(earlier, pair.left), holds(later, pair.right)];
  if (left && right) return;
  if (left) {
    if (!left.fields.has(later)) left.fields.set(later, { path: pair.right, pair });
    return;
  }
  if (right) {
    if (!right.fields.has(earlier)) right.fields.set(earlier, { path: pair.left, pair });
    return;
  }
  clusters.push({
    known: undefined,
    fields: new Map([
      [earlier, { path: pair.left, pair }],
      [later, { path: pair.right, pair }],
    ]),
  });
}

function describe(
  cluster: Cluster,
  members: readonly ProposalMember[],
  tied: ReadonlyMap<string, TiedRecords>,
  taken: Set<string>,
): ProposedField {
  const taking = members.filter(({ id }) => cluster.fields.has(id));
  const first = taking[0] as ProposalMember;
  const firstPath = cluster.fields.get(first.id)?.path ?? '';
  const sources = taking.flatMap((member): ProposedSource[] => {
    const { path, pair } = cluster.fields.get(member.id) as { path: FieldPath; pair: ProposedPair | undefined };
    const sketch = member.object.fields.find((field) => field.path === path);
    if (!sketch) return [];
    const factor = pair?.reasons.find((reason) => reason.kind === 'factor')?.factor;
    const isCrosswalk = pair?.reasons.some(({ kind }) => kind === 'crosswalk') && member !== first;
    const found = member === first ? undefined : tied.get(`${first.id} ${member.id}`);
    const together = isCrosswalk ? found?.together(firstPath, path) : undefined;
    return [
      {
        member: member.id,
        sketch,
        object: member.object,
        longest: member.fields.find((field) => field.path === path)?.longest ?? found?.cutAt(firstPath, path),
        ...(member === first ? {} : { factor }),
        together,
      },
    ];
  });
  const type = cluster.known?.type ?? proposedType(sources);
  const name = wordsOfName(firstPath.split('.').at(-1) ?? firstPath).join(' ');
  const id = cluster.known?.id ?? freeId(wordsOfName(firstPath), taken);
  const crosswalk = cluster.known ? undefined : proposedCrosswalk(sentence(name), sources);
  const cells = sources.flatMap((source): ProposedCell[] => {
    const pair = cluster.fields.get(source.member)?.pair;
    const member = taking.find(({ id: one }) => one === source.member);
    if (!pair || !member) return [];
    const isReadOnly =
      !member.mayUpdate || member.fields.find(({ path }) => path === source.sketch.path)?.readOnly === true;
    return [
      {
        member: source.member,
        field: source.sketch.path,
        direction: isReadOnly ? 'from' : 'both ways',
        steps: proposedSteps(type, source, crosswalk ? id : undefined),
        confidence: pair.confidence,
        reasons: pair.reasons,
      },
    ];
  });
  return {
    id,
    name: sentence(name),
    type,
    isNew: !cluster.known,
    isKey: (type === 'email' || type === 'text') && sources.every(tellsApart),
    cells,
    ...(crosswalk ? { crosswalk } : {}),
  };
}

function tellsApart({ sketch, object }: ProposedSource): boolean {
  return sketch.distinct >= sketch.filled * 0.9 && sketch.filled >= object.records * 0.5 && sketch.length < 45;
}

const sentence = (text: string): string => text.charAt(0).toUpperCase() + text.slice(1);

/** An identifier from the words of a name that no other shared field has. */
/** An id from words that no field has yet; it is taken then. */
export function freeId(words: readonly string[], taken: Set<string>): string {
  const letters = words.map((word) => word.replaceAll(/[^a-z0-9]/g, '')).filter((word) => word !== '');
  const camel = letters
    .map((word, index) => (index === 0 ? word : sentence(word)))
    .join('')
    .slice(0, 36);
  const start = /^[a-z]/.test(camel) ? camel : `field${camel}`;
  let id = start;
  for (let number = 2; taken.has(id); number += 1) id = `${start}${number}`;
  taken.add(id);
  return id;
}
