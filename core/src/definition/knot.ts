import type { Crosswalk, Direction, Step } from '../mapping/index.js';
import type { FieldId, FieldPath, FieldType, MemberId } from '../record/index.js';
import type { EvidenceField, KeyRule, Thresholds, Weights } from './identityRules.js';
import type { Rule } from './rule.js';

/**
 * The definition of a knot: which objects take part, which fields correspond, when two records are the same
 * thing, and who wins. One version of it is in force at a time; crosswalks are versioned with it.
 */
export interface Knot {
  readonly id: string;
  readonly name: string;
  /** What one anchor is called: `customer`. */
  readonly thing: string;
  readonly description?: string | undefined;
  /** Who answers for it. */
  readonly owner?: string | undefined;
  readonly labels?: readonly string[] | undefined;
  /** The shared field that names an anchor in lists. */
  readonly titleField: FieldId;
  /** `merge`: differing values are settled by the rules. `adopt`: they stay until somebody edits. */
  readonly start: 'merge' | 'adopt';
  /** Their order is the order of the columns, and of combining rules. */
  readonly members: readonly Member[];
  readonly fields: readonly SharedField[];
  /** In the order in which they are tried. */
  readonly keyRules: readonly KeyRule[];
  /** For records that no key ties. */
  readonly evidence?: Evidence | undefined;
  readonly checks: readonly Check[];
  readonly crosswalks: Readonly<Record<string, Crosswalk>>;
}

/**
 * Which shared fields are weighed when no key ties a record, from which score on it is tied or asked about, and what
 * was learned.
 */
export interface Evidence {
  readonly fields: readonly EvidenceField[];
  readonly thresholds: Thresholds;
  /** Learned from the data, and kept: so that the same two records have the same score in every run. */
  readonly weights?: Weights | undefined;
}

export interface Member {
  readonly id: MemberId;
  /** The system and its object, as the installation (or the knot file) calls them. */
  readonly system: string;
  readonly object: string;
  readonly may: {
    readonly create: boolean;
    readonly update: boolean;
    readonly archive?: boolean | undefined;
    readonly delete?: boolean | undefined;
  };
  /** Whether a record that belongs to no anchor starts a new one. */
  readonly startsAnchors: boolean;
  /**
   * Members of which one has to have had the thing when it began; otherwise nothing is created here. Any, when left
   * out.
   */
  readonly onlyFrom?: readonly MemberId[] | undefined;
  /**
   * New records are made one after the other, in the order of this shared field: comments, entries of a work log. Where
   * one cannot be made now, those after it wait for it.
   */
  readonly inOrderOf?: FieldId | undefined;
  /**
   * What happens to the other records of an anchor when the one here is deleted, in members where that may be done.
   * Nothing, when left out.
   */
  readonly whenDeleted?: 'nothing' | 'archive' | 'delete' | 'ask' | undefined;
  /** Records are deleted here even while things of other knots refer to theirs. */
  readonly deletesReferred?: boolean | undefined;
  /** A formula over `record`; records for which it is not true take no part. */
  readonly filter?: string | undefined;
  /** Fields of the member without which a record cannot be created there. */
  readonly required: readonly FieldPath[];
  /** Field of the member that carries the anchor's id, by which an interrupted creation is found again. */
  readonly carries?: FieldPath | undefined;
  readonly guards: Guards;
  /** What became of its things in other members, told in fields of the record here. */
  readonly outcomes?: readonly OutcomeFields[] | undefined;
  /** How its system acknowledges later what was written there. */
  readonly acknowledges?: Acknowledgement | undefined;
}

/**
 * Where a record is told what became of its thing in another member. These fields are nobody's shared ones, and nothing
 * that stands in them is an edit. At least one of them is given.
 */
export interface OutcomeFields {
  /** The member whose outcome it is. */
  readonly of: MemberId;
  readonly state?: OutcomeState | undefined;
  /** Why it failed or waits; blank when all is well. */
  readonly words?: FieldPath | undefined;
  /** When it was told, in ISO 8601 and UTC. */
  readonly time?: FieldPath | undefined;
  /** The key of the record over there. */
  readonly key?: FieldPath | undefined;
  /** The address of its page over there. */
  readonly link?: FieldPath | undefined;
}

/** A field that says how it stands, in the words of its system. */
export interface OutcomeState {
  readonly field: FieldPath;
  readonly done: string;
  readonly failed: string;
  /** That it is on its way is not told, when left out. */
  readonly pending?: string | undefined;
  /** Somebody who sets the field back to this wants it taken again. */
  readonly ready?: string | undefined;
}

/** A system takes what was written at once, and says later that it has worked on it: a field of its becomes filled. */
export interface Acknowledgement {
  readonly field: FieldPath;
  /** Minutes after the write from which on it is late. */
  readonly lateAfter: number;
}

export interface Guards {
  readonly creates?: number | undefined;
  readonly updates?: number | undefined;
  /** Records archived and deleted, together. */
  readonly removals?: number | undefined;
  /** In percent of the ties of this member. */
  readonly updatesPercent?: number | undefined;
}

export interface SharedField {
  readonly id: FieldId;
  readonly name: string;
  readonly type: FieldType;
  readonly rule: Rule;
  /** Who answers for it. */
  readonly owner?: string | undefined;
  readonly note?: string | undefined;
  /** Its values stay out of mails and logs. */
  readonly sensitive?: boolean | undefined;
  /**
   * A formula over the other shared fields. Where there is one no member gives the value: mappings can only write it.
   */
  readonly formula?: string | undefined;
  /**
   * The series from which a thing takes its number as soon as a system is to be told of it, where no system has given
   * one. From then on it is an agreed value like any other.
   */
  readonly series?: string | undefined;
  /** Of a reference: the knot whose things it holds; it may be this one. */
  readonly refersTo?: string | undefined;
  /** Of a reference to its own knot: each thing stands under the one that it refers to, and none under itself. */
  readonly levels?: boolean | undefined;
  /**
   * Of a reference: where what it refers to has no record left, the records of what refers to it are archived too, in
   * members where that may be done.
   */
  readonly archivedWith?: boolean | undefined;
  readonly mappings: Readonly<Record<MemberId, Mapping>>;
}

/** In the place of a field: the key of the record itself. It can only be read. */
export const recordKeyPath: FieldPath = '@key';

export interface Mapping {
  readonly field: FieldPath;
  readonly direction: Direction;
  readonly steps: readonly Step[];
  /** For systems that leave empty fields out: not sent means empty. */
  readonly absentMeansBlank: boolean;
  /** How this system is told that a field is empty. */
  readonly blankAs: 'null' | 'empty text';
  /**
   * The way in for comparing records alone, where the steps of a mapping that only writes cannot be read; from the
   * member to the shared field.
   */
  readonly compare?: readonly Step[] | undefined;
  /** For members that only receive: what to do when somebody edits the value there. */
  readonly drift: 'put back' | 'leave';
}

/** A rule on a record, and what happens to one that breaks it. */
export type Check = FormulaCheck | UniqueCheck;

interface CheckTerms {
  readonly id: string;
  /** What is said of a record that fails. */
  readonly says: string;
  readonly onFail: 'reject' | 'stop';
  /** The members whose records are checked; all when left out. */
  readonly members?: readonly MemberId[] | undefined;
}

export interface FormulaCheck extends CheckTerms {
  /** A formula over the shared fields of one record; the record passes when it is true. */
  readonly formula: string;
}

export interface UniqueCheck extends CheckTerms {
  /**
   * A shared field; a record fails where another record of its member means the same value. Blanks are not compared.
   */
  readonly unique: FieldId;
}
