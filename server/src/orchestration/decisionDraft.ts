import type { DecisionDetail, DecisionKind, DeepReadonly } from '@anchor-knot/contracts';
import type { AnchorId, FieldId, MemberId, Raw, RecordKey } from '@anchor-knot/core';

interface DecisionDraftCommon {
  readonly anchor?: AnchorId | undefined;
  readonly member?: MemberId | undefined;
  readonly key?: RecordKey | undefined;
  readonly field?: FieldId | undefined;
  /** What happened and what can be done, for people. */
  readonly says: string;
  /** Of what failed why it did, without the name of the record: what fails alike is repaired together. */
  readonly reason?: string | undefined;
  /** It was tried in this run, and failed; else it is only said again. */
  readonly wasTried?: boolean | undefined;
  /** Changes when what a person would decide on has changed. */
  readonly fingerprint: string;
}

/** Something that waits for a person. Two drafts with the same identity are the same decision. */
export type DecisionDraft = {
  [Kind in DecisionKind]: DecisionDraftCommon & {
    readonly kind: Kind;
    /** A value that cannot be read or written may be a number of more digits than JSON's have here. */
    readonly detail: Kind extends 'unreadable' | 'unwritable'
      ? { readonly raw: Raw }
      : DeepReadonly<DecisionDetail<Kind>>;
  };
}[DecisionKind];

/** How much of a member a run has read. */
export interface SourceReading {
  readonly member: MemberId;
  readonly isWhole: boolean;
  /** Of what comes in several files, those that were read. */
  readonly files: readonly string[];
}

/** The text by which a decision is known from run to run. What changed later does not replace what nobody saw yet. */
export function decisionIdentity({ kind, anchor, member, key, field, fingerprint }: DecisionDraft): string {
  const each = kind === 'fields changed' ? [fingerprint] : [];
  return JSON.stringify([kind, anchor ?? null, member ?? null, key ?? null, field ?? null, ...each]);
}
