import type { Evidence, KeyRule, Knot, Weights } from '../definition/index.js';
import {
  type ConsideredPair,
  type EvidenceTexts,
  type LikelyPairs,
  matchFree,
  type Newcomer,
  RecordMatching,
  type RuleSays,
  ruleSays,
  type Score,
  type Steps,
  Verdicts,
} from '../identity/index.js';
import { anchorId, type MemberId, type RecordKey } from '../record/index.js';

const mostKeys = 5;
/** In bits. Better pairs are counted with the best ones. */
export const binWidth = 0.5;
const mostBits = 40;
const examplesOfBin = 3;

/** A record that takes part, as matching sees it. */
export interface SurveyedRecord extends Newcomer {
  readonly title: string;
  /** What it has for each part of the evidence; none where there is no evidence. */
  readonly texts: EvidenceTexts;
}

/** How the records of all members would belong together, if nothing were tied yet. */
export interface IdentitySurvey {
  /** In the order of the rules, each over what the ones before left. */
  readonly rules: readonly {
    readonly name: string;
    /** Records that it ties to others. */
    readonly ties: number;
    /** Records with a key that another record of their member has too: they wait for a person. */
    readonly repeated: number;
    /** Records that have no such key. */
    readonly without: number;
    /** Some keys as they are compared. */
    readonly examples: readonly string[];
  }[];
  readonly evidence: EvidenceSurvey | undefined;
  /** Things that two or more members have, and those that only one has. */
  readonly together: number;
  readonly alone: number;
  /** Records that would wait for a person. */
  readonly waiting: number;
}

export interface EvidenceSurvey {
  readonly weights: Weights;
  /** Records that no key ties. */
  readonly free: number;
  /** How many records have a value, by part of the evidence. */
  readonly filled: readonly number[];
  /** How many pairs were compared; the records of all members together. */
  readonly compared: number;
  readonly records: number;
  /**
   * For each free record with a likely partner the best pair, by its score: from which bits on, how many, how many of
   * them are disputed.
   */
  readonly bins: readonly {
    readonly from: number;
    readonly pairs: number;
    readonly disputed: number;
    readonly examples: readonly PairExample[];
  }[];
}

interface PairSide {
  readonly member: MemberId;
  readonly key: RecordKey;
  readonly title: string;
}

export interface PairExample {
  readonly a: PairSide;
  readonly b: PairSide;
  /** What both have, by part of the evidence. */
  readonly texts: readonly (readonly [string | null, string | null])[];
  readonly score: Score;
  /** What each key rule says of the two. */
  readonly rules: readonly { readonly name: string; readonly says: RuleSays }[];
  readonly isDisputed: boolean;
}

/** What was found by comparing all records, with the weights that were learned or given. */
export interface ComparedRecords {
  readonly evidence: Evidence;
  readonly weights: Weights;
  readonly likely: LikelyPairs;
  readonly compared: number;
}

/** What key rules and evidence make of all records, if nothing were tied and nobody had said anything yet. */
export function* surveyIdentity(
  { keyRules, members }: Pick<Knot, 'keyRules' | 'members'>,
  records: readonly SurveyedRecord[],
  compared?: ComparedRecords,
): Steps<IdentitySurvey> {
  const rules = keyRules.filter((rule) => rule.fields.length > 0);
  let next = 0;
  const matching = new RecordMatching(
    rules.map(({ name }) => name),
    records,
    { withKey: () => [], tiedKey: () => undefined, anchorOf: () => undefined },
    () => anchorId(String((next += 1))),
  ).applyKeys();
  yield;
  const free = matching.free().length;
  const outcome =
    compared &&
    (yield* matchFree({
      matching,
      members: members.map(({ id }) => id),
      records,
      likely: compared.likely,
      thresholds: compared.evidence.thresholds,
      verdicts: new Verdicts([]),
    }));
  const { ties, doubts, unmatched } = matching.finish();
  const sizes = new Map<string, number>();
  for (const { anchor } of ties) sizes.set(anchor, (sizes.get(anchor) ?? 0) + 1);
  const counts = [...sizes.values()];
  yield;
  return {
    rules: rules.map(({ name }, index) => {
      const tied = ties.filter(({ why }) => why?.kind === 'key rule' && why.rule === name);
      return {
        name,
        ties: tied.length,
        repeated: doubts.reduce(
          (sum, doubt) => sum + (doubt.kind === 'duplicate' && doubt.rule === name ? doubt.keys.length : 0),
          0,
        ),
        without: records.reduce((sum, { keys }) => sum + (keys[index] === undefined ? 1 : 0), 0),
        examples: [...new Set(tied.flatMap(({ newcomer }) => newcomer.keys[index] ?? []))]
          .slice(0, mostKeys)
          .map((key) => key.replaceAll('\u001f', ', ')),
      };
    }),
    evidence: compared && outcome ? evidenceSurvey(records, compared, free, outcome.considered, rules) : undefined,
    together: counts.filter((count) => count > 1).length,
    alone: counts.filter((count) => count === 1).length + unmatched.length,
    waiting: doubts.reduce((sum, doubt) => sum + ('keys' in doubt ? doubt.keys.length : 1), 0),
  };
}

function evidenceSurvey(
  records: readonly SurveyedRecord[],
  { evidence, weights, likely, compared }: ComparedRecords,
  free: number,
  considered: readonly ConsideredPair[],
  rules: readonly KeyRule[],
): EvidenceSurvey {
  const bins = new Map<number, { pairs: number; disputed: number; examples: PairExample[] }>();
  for (const { record, with: other, bits, isDisputed } of considered) {
    const from = Math.floor(Math.min(mostBits, bits) / binWidth) * binWidth;
    const bin = bins.get(from) ?? { pairs: 0, disputed: 0, examples: [] };
    bins.set(from, bin);
    bin.pairs += 1;
    if (isDisputed) bin.disputed += 1;
    if (bin.examples.length >= examplesOfBin) continue;
    const [a, b] = [records[other] as SurveyedRecord, records[record] as SurveyedRecord];
    bin.examples.push({
      a: sideOf(a),
      b: sideOf(b),
      texts: evidence.fields.map((_, part) => [a.texts[part] ?? null, b.texts[part] ?? null]),
      score: likely.explain(other, record),
      rules: rules.map(({ name }, rule) => ({ name, says: ruleSays(a.keys[rule], b.keys[rule]) })),
      isDisputed,
    });
  }
  return {
    weights,
    free,
    compared,
    records: records.length,
    filled: evidence.fields.map((_, part) =>
      records.reduce((sum, { texts }) => sum + (texts[part] === null ? 0 : 1), 0),
    ),
    bins: [...bins].sort(([a], [b]) => a - b).map(([from, bin]) => ({ from, ...bin })),
  };
}

const sideOf = ({ member, key, title }: SurveyedRecord): PairSide => ({ member, key, title });
