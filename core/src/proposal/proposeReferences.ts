import { isBlank, type FieldPath, type MemberId, type Raw, readPath, type ReferenceBy } from '../record/index.js';
import { wordsOfName } from './fieldNames.js';
import {
  freeId,
  type KnownField,
  type ProposalMember,
  type ProposedCell,
  type ProposedField,
} from './proposeFields.js';

/** Different values of a field that are looked up in other knots. */
const mostValues = 200;
/** Of fewer it cannot be told whether they are keys, or only look like some. */
const fewestValues = 8;
/** So many of them must be known in the other knot. */
const leastShare = 0.6;
/** Small numbers are everywhere: without a name that says so, they are keys of nothing. */
const tellingLength = 4;
/** Keys are no sentences: characters, on average. */
const longestKey = 60;

/** A field whose values may be keys of something. */
export interface FieldValues {
  readonly member: MemberId;
  readonly path: FieldPath;
  readonly values: readonly string[];
}

/** How many values of a field are known in another knot, in one way. */
export interface FoundValues extends FieldValues {
  readonly target: { readonly id: string; readonly thing: string };
  readonly by: ReferenceBy;
  /** The way, in words: *keys of Market Row*. */
  readonly words: string;
  readonly found: number;
}

/** The fields that are worth looking up: those with many different values that are short. */
export function fieldsToLookUp(
  members: readonly ProposalMember[],
  isTaken: (member: MemberId, path: FieldPath) => boolean,
): readonly FieldValues[] {
  return members.flatMap(({ id, object }) =>
    object.fields.flatMap(({ path, distinct, length }): FieldValues[] => {
      if (distinct < fewestValues || length > longestKey || isTaken(id, path)) return [];
      const values = valuesOf(object.rows, path);
      return values.length < fewestValues ? [] : [{ member: id, path, values }];
    }),
  );
}

function valuesOf(rows: readonly Readonly<Record<string, Raw>>[], path: FieldPath): readonly string[] {
  const values = new Set<string>();
  for (const row of rows) {
    const raw = readPath(row, path);
    if (raw === undefined || isBlank(raw) || (typeof raw !== 'string' && typeof raw !== 'number')) continue;
    values.add(String(raw).trim());
    if (values.size >= mostValues) break;
  }
  return [...values];
}

/**
 * References between knots, from how many values of a field are keys, or values, of things of another knot. Of each
 * member the field with the most of them is taken for each knot; a shared field needs two.
 */
export function proposeReferences(
  found: readonly FoundValues[],
  members: readonly ProposalMember[],
  known: readonly (KnownField & { readonly refersTo?: string | undefined })[],
): readonly ProposedField[] {
  const likely = found.filter(isLikely);
  const targets = new Map(likely.map(({ target }) => [target.id, target]));
  const ids = new Set(known.map(({ id }) => id));
  return [...targets.values()].flatMap((target): ProposedField[] => {
    const there = known.find(({ refersTo }) => refersTo === target.id);
    const cells = members.flatMap((member): ProposedCell[] => {
      if (there?.mappings[member.id]) return [];
      const [best] = likely
        .filter((one) => one.member === member.id && one.target.id === target.id)
        .toSorted((a, b) => scoreOf(b) - scoreOf(a));
      return best ? [cellOf(best, member)] : [];
    });
    if (cells.length < (there ? 1 : 2)) return [];
    const name = target.thing.charAt(0).toUpperCase() + target.thing.slice(1);
    return [
      {
        id: there?.id ?? freeId(wordsOfName(target.thing), ids),
        name,
        type: 'reference',
        refersTo: target.id,
        isNew: !there,
        isKey: false,
        cells,
      },
    ];
  });
}

const shareOf = ({ found, values }: FoundValues): number => (values.length === 0 ? 0 : found / values.length);

/** A name that says what the thing is called speaks for a field; so do many values. */
const scoreOf = (one: FoundValues): number => shareOf(one) + (isNamed(one) ? 0.3 : 0) + Math.min(0.1, one.found / 1000);

function isLikely(one: FoundValues): boolean {
  if (one.found < fewestValues || shareOf(one) < leastShare) return false;
  const areTelling = one.values.every((value) => value.length >= tellingLength);
  return areTelling || isNamed(one);
}

function isNamed({ path, target }: FoundValues): boolean {
  const words = new Set(wordsOfName(path));
  return wordsOfName(target.thing).some((word) => words.has(word));
}

function cellOf(one: FoundValues, { id, mayUpdate, fields }: ProposalMember): ProposedCell {
  const readOnly = fields.find(({ path }) => path === one.path)?.readOnly === true;
  const { found, values, words } = one;
  return {
    member: id,
    field: one.path,
    direction: mayUpdate && !readOnly ? 'both ways' : 'from',
    steps: [{ kind: 'reference', by: one.by }],
    confidence: Math.min(0.99, shareOf(one)),
    reasons: [{ kind: 'refers', found, of: values.length, words, adds: 3 * shareOf(one) }],
  };
}
