import type { AnchorId, MemberId, RecordKey } from '../record/index.js';
import type { RecordName } from './verdict.js';

/** A record that has no tie yet. */
export interface Newcomer extends RecordName {
  /** Its key under each rule, in the order of the rules. */
  readonly keys: readonly (string | undefined)[];
  /** False for records that may join an anchor but not start one: rejected, or of a member where nothing may start. */
  readonly canStart: boolean;
}

/** What is known of existing anchors. */
export interface KnownAnchors {
  /** Anchors with that key, by the agreed values or the present values of any tie. */
  withKey(rule: number, key: string): readonly AnchorId[];
  /** The key of the record that an anchor is tied to in a member, gone ties included. */
  tiedKey(anchor: AnchorId, member: MemberId): RecordKey | undefined;
  /** The anchor that a record is tied to; asked of records that verdicts name. */
  anchorOf(record: RecordName): AnchorId | undefined;
}

/** What a record may be the same as: the records of an anchor, or others that wait. */
export interface MatchCandidate {
  readonly anchor: AnchorId | undefined;
  readonly records: readonly RecordName[];
  /** The record in it that the score is of. */
  readonly with: RecordName;
}

export type MatchDoubt =
  | {
      readonly kind: 'duplicate';
      readonly member: MemberId;
      /** The key rule that they are alike by; none where it is evidence. */
      readonly rule?: string | undefined;
      readonly value?: string | undefined;
      readonly keys: readonly RecordKey[];
      readonly tiedKey?: RecordKey | undefined;
      readonly anchor?: AnchorId | undefined;
    }
  | {
      readonly kind: 'keys disagree' | 'several anchors';
      readonly member: MemberId;
      readonly key: RecordKey;
      readonly anchors: readonly AnchorId[];
    }
  | {
      readonly kind: 'evidence';
      readonly member: MemberId;
      readonly key: RecordKey;
      readonly candidates: readonly MatchCandidate[];
    };

/** Why a record was tied. */
export type TieReason =
  | { readonly kind: 'verdict' }
  | { readonly kind: 'key rule'; readonly rule: string }
  | { readonly kind: 'evidence'; readonly with: RecordName; readonly bits: number };

/** By anchor and member: the records that a doubt is open about. */
export type Blocked = ReadonlyMap<AnchorId, ReadonlyMap<MemberId, ReadonlySet<RecordKey>>>;

/** Members in which an anchor must not be created. */
export function blockedMembers(blocked: Blocked): ReadonlyMap<AnchorId, ReadonlySet<MemberId>> {
  return new Map([...blocked].map(([anchor, members]) => [anchor, new Set(members.keys())]));
}

export interface Matching {
  readonly ties: readonly {
    readonly newcomer: Newcomer;
    readonly anchor: AnchorId;
    readonly why: TieReason | undefined;
    readonly isNewAnchor: boolean;
  }[];
  /** Records that wait for a person. They have no anchor and create nothing meanwhile. */
  readonly doubts: readonly MatchDoubt[];
  /** Records that neither match nor may start an anchor. */
  readonly unmatched: readonly Newcomer[];
  /** Members in which an anchor must not be created, because a doubt is open about these records there. */
  readonly blocked: Blocked;
}
