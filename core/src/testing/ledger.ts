import type { CompiledKnot } from '../definition/index.js';
import type { Lens } from '../mapping/index.js';
import { recordId } from '../identity/index.js';
import type { Anchor, Tie } from '../merge/index.js';
import {
  type AnchorId,
  type FieldId,
  isBlank,
  type MemberId,
  type Raw,
  rawEqual,
  sameShared,
  type Shared,
} from '../record/index.js';
import type { PlayedInstallation, PlayedOutcome } from './played.js';

interface Edit {
  readonly member: MemberId;
  readonly key: string;
  readonly path: string;
  readonly raw: Raw;
  readonly at: number;
}

/** A value that a person chose for a held field. */
interface Choice {
  readonly anchor: AnchorId;
  readonly field: FieldId;
  readonly value: Shared;
  readonly knot: CompiledKnot;
  /** Records that the anchor had then, and places that somebody had edited and nobody had read. */
  readonly records: ReadonlySet<string>;
}

/** What was stored before a run: by it one tells what the run did. */
export interface Before {
  /** The definition that the run goes by; another one may be in force when it has ended. */
  readonly knot: CompiledKnot;
  readonly anchors: ReadonlyMap<string, Anchor>;
  /** Places that somebody has edited since they were last settled. */
  readonly edited: ReadonlySet<string>;
}

/**
 * Keeps account of what people did to records, by itself: it knows nothing of the merge but its outcome. After each run
 * it says which edits were lost, and which values the engine took for edits that nobody made.
 */
export class EditLedger {
  readonly #installation: PlayedInstallation;
  readonly #edits = new Map<string, Edit>();
  #choices: readonly Choice[] = [];
  /** Pairs of records that a person said are different things. */
  readonly #parted: (readonly [string, string])[] = [];
  /** What has become of edits, for tests that must not pass for want of any. */
  readonly counts = { agreed: 0, lost: 0, held: 0, combined: 0, waiting: 0 };

  constructor(installation: PlayedInstallation) {
    this.#installation = installation;
  }

  edited(member: MemberId, key: string, path: string, raw: Raw): void {
    const at = this.#installation.now;
    this.#edits.set(placeOf(member, key, path), { member, key, path, raw, at });
  }

  /** Another way to say the same: an edit that is not settled yet is now this one; otherwise nothing was edited. */
  retyped(member: MemberId, key: string, path: string, raw: Raw): void {
    if (this.#edits.has(placeOf(member, key, path))) this.edited(member, key, path, raw);
  }

  /** Who deletes a record takes the edits of it back. */
  deleted(member: MemberId, key: string): void {
    for (const [place, edit] of this.#edits) if (edit.member === member && edit.key === key) this.#edits.delete(place);
  }

  /** A person took these records from their anchor: they begin anew, and all that they hold is an edit. */
  begunAnew(member: MemberId, key: string): void {
    const record = this.#installation.records.get(member)?.get(key as never);
    for (const [path, raw] of Object.entries(record?.fields ?? {}))
      if (path !== 'key' && !refersBy(this.#installation.knot, member, path)) this.edited(member, key, path, raw);
  }

  /** A person chose among the values of a held field: what was held is settled. */
  settled(anchor: Anchor, field: FieldId, value: Shared): void {
    const { knot } = this.#installation;
    const records = new Set(anchor.ties.filter(({ gone }) => !gone).map((tie) => recordId(tie)));
    this.#choices = [
      ...this.#choices.filter((choice) => choice.anchor !== anchor.id || choice.field !== field),
      { anchor: anchor.id, field, value, knot, records },
    ];
    for (const tie of anchor.ties) {
      const path = pathOf(this.#installation.knot, tie.member, field);
      const edit = path === undefined ? undefined : this.#edits.get(placeOf(tie.member, tie.key, path));
      // What was typed since the person looked is another edit.
      if (edit && (this.#installation.readAt.get(recordId(tie)) ?? 0) >= edit.at && !tie.rejected)
        this.#edits.delete(placeOf(tie.member, tie.key, path as string));
    }
  }

  /** A person says that the record of a member is another thing than the other records of its anchor. */
  parted(anchor: Anchor, member: MemberId): void {
    const [taken, ...rest] = anchor.ties.toSorted((a, b) => Number(b.member === member) - Number(a.member === member));
    if (taken) for (const tie of rest) this.#parted.push([recordId(taken), recordId(tie)]);
  }

  /** Another version is put in force: it may read other fields, and what was chosen under the old one may not stand. */
  redefined(): void {
    this.#choices = [];
  }

  before(): Before {
    return {
      knot: this.#installation.knot,
      anchors: new Map(this.#installation.anchors),
      edited: new Set(this.#edits.keys()),
    };
  }

  /** What is wrong after a run, in words; nothing when all is well. */
  faults(before: Before, outcome: PlayedOutcome): string[] {
    const edited = new Set([...before.edited, ...this.#edits.keys()]);
    const overruled = this.#overruled(edited);
    return [...overruled, ...this.#lostEdits(before, outcome), ...this.#madeUp({ ...before, edited }, outcome)];
  }

  /**
   * *What a person said holds*: a value that was chosen stands until somebody edits the field, a record comes, or
   * another version is in force; and records that were parted are not tied to one anchor again.
   */
  #overruled(edited: ReadonlySet<string>): string[] {
    const faults: string[] = [];
    this.#choices = this.#choices.filter((choice) => {
      const anchor = this.#installation.anchors.get(choice.anchor);
      const ties = anchor?.ties.filter(({ gone }) => !gone) ?? [];
      const isEdited = ties.some(({ member, key }) => {
        const path = pathOf(choice.knot, member, choice.field);
        return path !== undefined && edited.has(placeOf(member, key, path));
      });
      const isOvertaken = isEdited || ties.some((tie) => !choice.records.has(recordId(tie)));
      if (!anchor || isOvertaken) return false;
      const agreed = anchor.agreed[choice.field];
      if (agreed && sameShared(agreed.value, choice.value)) return true;
      const now = JSON.stringify(agreed?.value);
      faults.push(`a person chose ${JSON.stringify(choice.value)} for ${choice.field}, and ${now} is agreed`);
      return false;
    });
    for (const { ties } of this.#installation.anchors.values()) {
      const alive = new Set(ties.filter(({ gone }) => !gone).map((tie) => recordId(tie)));
      for (const [a, b] of this.#parted)
        if (alive.has(a) && alive.has(b))
          faults.push(`a person said that ${a} and ${b} are different, and they are tied`);
    }
    return faults;
  }

  /**
   * *No lost edit*: each became the agreed value, is its shadow, was combined, lost with its value told, or is held.
   */
  #lostEdits(before: Before, outcome: PlayedOutcome): string[] {
    const faults: string[] = [];
    for (const [place, edit] of this.#edits) {
      const { member, key, at } = edit;
      const anchor = this.#anchorOf(member, key);
      const tie = anchor?.ties.find((tie) => tie.member === member && tie.key === key);
      if (!anchor || !tie || tie.gone || (this.#installation.readAt.get(recordId(tie)) ?? 0) < at) continue;
      // A version that reads another field from now on has nothing to do with what was typed here.
      const fields = before.knot.fields.filter(
        ({ id, mappings }) =>
          mappings.get(member)?.field === edit.path && pathOf(this.#installation.knot, member, id) === edit.path,
      );
      const ends = fields.map((field) => {
        const lens = field.mappings.get(member)?.lens as Lens;
        return this.#endOf(edit, anchor, tie, field.id, lens, before, outcome);
      });
      for (const end of ends) if (end !== 'lost without a word') this.counts[end] += 1;
      if (ends.includes('lost without a word'))
        faults.push(`the edit ${place} to ${JSON.stringify(edit.raw)} was lost`);
      if (ends.every((end) => end !== 'held' && end !== 'waiting')) this.#edits.delete(place);
    }
    return faults;
  }

  #endOf(
    edit: Edit,
    anchor: Anchor,
    tie: Tie,
    field: FieldId,
    lens: Lens,
    { knot, anchors }: Before,
    outcome: PlayedOutcome,
  ): keyof EditLedger['counts'] | 'lost without a word' {
    const { raw } = edit;
    if (!lens.reads) return 'agreed';
    const isAhead = tie.ahead[field] !== undefined && rawEqual(tie.ahead[field].raw, raw);
    const isHeld = outcome.held.some((held) => held.anchor === anchor.id && held.field === field);
    if (isHeld && isAhead) return 'held';
    if (isAhead) return 'waiting';
    const known = anchors.get(anchor.id);
    const agreedBefore = known?.agreed[field]?.value;
    const agreed = anchor.agreed[field];
    // What a value says depends on what it was read with: nothing, or what was agreed before or after.
    const said = [undefined, agreedBefore, agreed?.value].map((base) => lens.inbound(raw, base));
    const says = (value: Shared): boolean => said.some((one) => one.ok && sameShared(one.value, value));
    const seen = known?.ties.find((one) => one.member === tie.member && one.key === tie.key)?.seen[field];
    if (seen === undefined && (isBlank(raw) || knot.start === 'adopt')) return 'agreed';
    // A record that comes and says what is agreed has edited nothing.
    if (seen === undefined && agreedBefore !== undefined && says(agreedBefore)) return 'agreed';
    const meantBefore = seen === undefined ? undefined : lens.inbound(seen, agreedBefore);
    if (meantBefore?.ok && said[1]?.ok && sameShared(meantBefore.value, said[1].value)) return 'agreed';
    if (agreed && (says(agreed.value) || lens.means(raw, agreed.value))) return 'agreed';
    const isOfField = (one: { anchor: string; field: FieldId }): boolean =>
      one.anchor === anchor.id && one.field === field;
    // A later pass may have agreed on another value, which somebody gave who knew this one.
    if (outcome.settled.some((one) => isOfField(one) && (says(one.value) || lens.means(raw, one.value))))
      return 'agreed';
    const isTold = ({ member, value }: { member?: MemberId | undefined; value: Shared }): boolean =>
      (member === undefined || member === tie.member) && (says(value) || lens.means(raw, value));
    if (outcome.lost.some((lost) => isOfField(lost) && isTold(lost))) return 'lost';
    if (agreed?.why.kind === 'combined' && agreed.why.members.includes(tie.member)) return 'combined';
    // A later pass may have combined it with more.
    const whyBefore = JSON.stringify(known?.agreed[field]?.why);
    const isCombined = ({ why }: PlayedOutcome['settled'][number]): boolean =>
      why.kind === 'combined' && why.members.includes(tie.member) && JSON.stringify(why) !== whyBefore;
    if (outcome.settled.some((one) => isOfField(one) && isCombined(one))) return 'combined';
    return 'lost without a word';
  }

  /** *No echo*: every value that was taken for an edit was given by somebody. */
  #madeUp(before: Before, outcome: PlayedOutcome): string[] {
    const faults: string[] = [];
    const isGiven = (anchor: Anchor, member: MemberId, field: FieldId): boolean => {
      const tie = anchor.ties.find((tie) => tie.member === member);
      const path = pathOf(before.knot, member, field);
      if (!tie || path === undefined || before.edited.has(placeOf(member, tie.key, path))) return true;
      const known = before.anchors.get(anchor.id)?.ties.find((one) => one.member === member && one.key === tie.key);
      // A record that has just come gives all that it holds, and so does a field that was not read before.
      return !known || known.gone === true || known.seen[field] === undefined || known.ahead[field] !== undefined;
    };
    for (const anchor of this.#installation.anchors.values()) {
      for (const [field, { value, why }] of Object.entries(anchor.agreed)) {
        const known = before.anchors.get(anchor.id)?.agreed[field];
        if (isReference(before.knot, field)) continue;
        if (known && sameShared(known.value, value)) continue;
        if (why.kind !== 'edit' && why.kind !== 'rule' && why.kind !== 'combined') continue;
        for (const member of why.members)
          if (!isGiven(anchor, member, field))
            faults.push(`nobody gave ${JSON.stringify(value)} for ${field} in ${member}, and it was agreed`);
      }
    }
    for (const { anchor: id, member, field, value } of outcome.lost) {
      const anchor = this.#installation.anchors.get(id);
      if (isReference(before.knot, field)) continue;
      if (anchor && member !== undefined && !isGiven(anchor, member, field))
        faults.push(`nobody gave ${JSON.stringify(value)} for ${field} in ${member}, and it was told as lost`);
    }
    return faults;
  }

  /** Whether a record holds something of somebody's that is not settled: it must not be removed. */
  holdsEdit(member: MemberId, key: string): boolean {
    return [...this.#edits.values()].some((edit) => {
      if (edit.member !== member || edit.key !== key) return false;
      const tie = this.#anchorOf(member, key)?.ties.find((tie) => tie.member === member);
      return this.#installation.knot.fields.some(({ id, mappings }) => {
        const mapping = mappings.get(member);
        const seen = tie?.seen[id];
        // Who types again what stood there has edited nothing; where nothing was, nothing was taken away.
        const isAsSeen =
          (isBlank(edit.raw) && isBlank(seen ?? null)) || (seen !== undefined && rawEqual(seen, edit.raw));
        return mapping?.field === edit.path && mapping.lens.reads && !isAsSeen;
      });
    });
  }

  #anchorOf(member: MemberId, key: string): Anchor | undefined {
    return [...this.#installation.anchors.values()].find(({ ties }) =>
      ties.some((tie) => tie.member === member && tie.key === key),
    );
  }
}

/** What a reference says is told by laws of its own. */
export function isReference(knot: CompiledKnot, field: FieldId): boolean {
  return knot.fields.some(({ id, refersTo }) => id === field && refersTo !== undefined);
}

function refersBy(knot: CompiledKnot, member: MemberId, path: string): boolean {
  return knot.fields.some(({ id, mappings }) => mappings.get(member)?.field === path && isReference(knot, id));
}

function pathOf(knot: CompiledKnot, member: MemberId, field: FieldId): string | undefined {
  return knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.field;
}

const placeOf = (member: MemberId, key: string, path: string): string => `${member}/${key}/${path}`;
