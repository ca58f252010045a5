import type { CompiledKnot } from '../definition/index.js';
import type { Lens } from '../mapping/index.js';
import { recordId } from '../identity/index.js';
import type { Anchor, Tie } from '../merge/index.js';
import { type FieldId, isBlank, type MemberId, type Raw, rawEqual, sameShared, type Shared } from '../record/index.js';
import type { RunOutcome, World } from './world.js';

interface Edit {
  readonly member: MemberId;
  readonly key: string;
  readonly path: string;
  readonly raw: Raw;
  readonly at: number;
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
  readonly #world: World;
  readonly #edits = new Map<string, Edit>();
  /** What has become of edits, for tests that must not pass for want of any. */
  readonly counts = { agreed: 0, lost: 0, held: 0, combined: 0, waiting: 0 };

  constructor(world: World) {
    this.#world = world;
  }

  edited(member: MemberId, key: string, path: string, raw: Raw): void {
    const at = this.#world.now;
    this.#edits.set(placeOf(member, key, path), { member, key, path, raw, at });
  }

  /** Who deletes a record takes the edits of it back. */
  deleted(member: MemberId, key: string): void {
    for (const [place, edit] of this.#edits) if (edit.member === member && edit.key === key) this.#edits.delete(place);
  }

  /** A person took these records from their anchor: they begin anew, and all that they hold is an edit. */
  begunAnew(member: MemberId, key: string): void {
    const record = this.#world.of(member).get(key as never);
    for (const [path, raw] of Object.entries(record?.fields ?? {}))
      if (path !== 'key') this.edited(member, key, path, raw);
  }

  /** A person chose among the values of a held field: what was held is settled. */
  settled(anchor: Anchor, field: FieldId): void {
    for (const tie of anchor.ties) {
      const path = pathOf(this.#world.knot, tie.member, field);
      const edit = path === undefined ? undefined : this.#edits.get(placeOf(tie.member, tie.key, path));
      // What was typed since the person looked is another edit.
      if (edit && (this.#world.readAt.get(recordId(tie)) ?? 0) >= edit.at && !tie.rejected)
        this.#edits.delete(placeOf(tie.member, tie.key, path as string));
    }
  }

  before(): Before {
    return { knot: this.#world.knot, anchors: new Map(this.#world.anchors), edited: new Set(this.#edits.keys()) };
  }

  /** What is wrong after a run, in words; nothing when all is well. */
  faults(before: Before, outcome: RunOutcome): string[] {
    const edited = new Set([...before.edited, ...this.#edits.keys()]);
    return [...this.#lostEdits(before, outcome), ...this.#madeUp({ ...before, edited }, outcome)];
  }

  /**
   * *No lost edit*: each became the agreed value, is its shadow, was combined, lost with its value told, or is held.
   */
  #lostEdits(before: Before, outcome: RunOutcome): string[] {
    const faults: string[] = [];
    for (const [place, edit] of this.#edits) {
      const { member, key, at } = edit;
      const anchor = this.#anchorOf(member, key);
      const tie = anchor?.ties.find((one) => one.member === member && one.key === key);
      if (!anchor || !tie || tie.gone || (this.#world.readAt.get(recordId(tie)) ?? 0) < at) continue;
      const fields = before.knot.fields.filter((field) => field.mappings.get(member)?.field === edit.path);
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
    outcome: RunOutcome,
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
    return 'lost without a word';
  }

  /** *No echo*: every value that was taken for an edit was given by somebody. */
  #madeUp(before: Before, outcome: RunOutcome): string[] {
    const faults: string[] = [];
    const isGiven = (anchor: Anchor, member: MemberId, field: FieldId): boolean => {
      const tie = anchor.ties.find((one) => one.member === member);
      const path = pathOf(before.knot, member, field);
      if (!tie || path === undefined || before.edited.has(placeOf(member, tie.key, path))) return true;
      const known = before.anchors.get(anchor.id)?.ties.find((one) => one.member === member && one.key === tie.key);
      // A record that has just come gives all that it holds, and so does a field that was not read before.
      return !known || known.gone === true || known.seen[field] === undefined || known.ahead[field] !== undefined;
    };
    for (const anchor of this.#world.anchors.values()) {
      for (const [field, { value, why }] of Object.entries(anchor.agreed)) {
        const known = before.anchors.get(anchor.id)?.agreed[field];
        if (known && sameShared(known.value, value)) continue;
        if (why.kind !== 'edit' && why.kind !== 'rule' && why.kind !== 'combined') continue;
        for (const member of why.members)
          if (!isGiven(anchor, member, field))
            faults.push(`nobody gave ${JSON.stringify(value)} for ${field} in ${member}, and it was agreed`);
      }
    }
    for (const { anchor: id, member, field, value } of outcome.lost) {
      const anchor = this.#world.anchors.get(id);
      if (anchor && member !== undefined && !isGiven(anchor, member, field))
        faults.push(`nobody gave ${JSON.stringify(value)} for ${field} in ${member}, and it was told as lost`);
    }
    return faults;
  }

  /** Whether a record holds something of somebody's that is not settled: it must not be removed. */
  holdsEdit(member: MemberId, key: string): boolean {
    return [...this.#edits.values()].some((edit) => {
      if (edit.member !== member || edit.key !== key) return false;
      const tie = this.#anchorOf(member, key)?.ties.find((one) => one.member === member);
      // Where nothing was, nothing was taken away.
      if (isBlank(edit.raw) && isBlank(tie?.seen[edit.path] ?? null)) return false;
      return this.#world.knot.fields.some(
        ({ mappings }) => mappings.get(member)?.field === edit.path && mappings.get(member)?.lens.reads,
      );
    });
  }

  #anchorOf(member: MemberId, key: string): Anchor | undefined {
    return [...this.#world.anchors.values()].find(({ ties }) =>
      ties.some((tie) => tie.member === member && tie.key === key),
    );
  }
}

function pathOf(knot: CompiledKnot, member: MemberId, field: FieldId): string | undefined {
  return knot.fields.find(({ id }) => id === field)?.mappings.get(member)?.field;
}

const placeOf = (member: MemberId, key: string, path: string): string => `${member}/${key}/${path}`;
