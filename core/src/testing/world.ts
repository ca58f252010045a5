import { changedMappings, type CompiledKnot, compileKnot, type Knot, withReferences } from '../definition/index.js';
import {
  blockedMembers,
  keyOf,
  type Newcomer,
  recordId,
  RecordMatching,
  type RecordName,
  Verdicts,
} from '../identity/index.js';
import { Levels } from '../mapping/index.js';
import {
  type Anchor,
  expectedFields,
  type FieldLoss,
  heldFingerprint,
  isAlive,
  mergeAnchor,
  type Problem,
  putLevel,
  type Reading,
  settleHeld,
  type TieEnd,
} from '../merge/index.js';
import {
  afterWrite,
  type AskedDeletion,
  neededNumbers,
  type Numbers,
  type Operation,
  planAnchor,
  type Planned,
  splitAnchor,
  type WriteResult,
} from '../plan/index.js';
import type { Withheld } from '../plan/index.js';
import {
  type AnchorId,
  anchorId,
  type FieldId,
  type MemberId,
  notLookedUp,
  type Raw,
  rawEqual,
  type RecordKey,
  recordKey,
  type References,
  type Shared,
  type SourceRecord,
  writePath,
} from '../record/index.js';
import {
  type HeldField,
  keptBySystem,
  type Place,
  type PlayedInstallation,
  type PlayedOutcome,
  type PlayedWrite,
  type RunSettings,
  valueOf,
  type WriteFate,
} from './played.js';

/** What a run of the world came to, in more detail than an installation tells. */
export interface RunOutcome extends PlayedOutcome {
  readonly operations: readonly Operation[];
  readonly problems: readonly (Problem & { readonly anchor: AnchorId })[];
  readonly withheld: readonly Withheld[];
  readonly asked: readonly (AskedDeletion & { readonly anchor: AnchorId })[];
  readonly lost: readonly (FieldLoss & { readonly anchor: AnchorId })[];
  readonly allWritten: boolean;
}

/** What an installation may be told of a run, and what only a world can do. */
export interface WorldRunSettings extends RunSettings<Operation & PlayedWrite> {
  /** Shuffles what is read. */
  readonly shuffle?: <T>(items: T[]) => T[];
}

type Readings = ReadonlyMap<MemberId, Reading>;
type MutableOutcome = {
  -readonly [Part in keyof RunOutcome]: RunOutcome[Part] extends readonly (infer Item)[] ? Item[] : RunOutcome[Part];
};

const mostPasses = 3;

/**
 * A small installation in memory: members with records, and the engine's own state, driven by the pure functions alone.
 * It stands for what the server does, so that the laws can be tested on the engine by itself.
 */
export class World implements PlayedInstallation {
  knot: CompiledKnot;
  readonly records = new Map<MemberId, Map<RecordKey, SourceRecord>>();
  readonly anchors = new Map<AnchorId, Anchor>();
  now = 1_000_000;
  /** Which numbers were taken, by thing and field. */
  readonly numbers = new Map<string, string>();
  /** When each record was last read, by its name. */
  readonly readAt = new Map<string, number>();
  readonly #revisions = new Map<AnchorId, number>();
  readonly #verdicts: { a: RecordName; b: RecordName; same: boolean }[] = [];
  #next = 0;
  #definition: Knot;
  #coming: Knot | undefined;
  #knotOfLastRun: CompiledKnot | undefined;
  #isRunning = false;

  readonly #references: () => References;

  /** @param references what is known of other knots at that moment */
  constructor(definition: Knot, references: () => References = () => notLookedUp) {
    this.#references = references;
    this.#definition = definition;
    this.knot = compiled(definition);
    for (const { id } of definition.members) this.records.set(id, new Map());
  }

  /** The knot, with what its references mean now. */
  get #bound(): CompiledKnot {
    const bound = withReferences(this.knot, this.#references(), new Levels());
    for (const anchor of this.anchors.values()) putLevel(bound, anchor);
    return bound;
  }

  /** What stands under things that were just made in a member, and is not there itself. */
  #below(made: readonly Operation[]): readonly AnchorId[] {
    const field = this.knot.fields.find(({ levels }) => levels);
    return [...this.anchors.values()].flatMap(({ id, agreed, ties }) => {
      const above = field && agreed[field.id]?.value;
      const isWaiting = made.some(
        ({ kind, anchor, member }) =>
          kind === 'create' && anchor === above && !ties.some((tie) => tie.member === member),
      );
      return isWaiting ? [id] : [];
    });
  }

  of(member: MemberId): Map<RecordKey, SourceRecord> {
    return this.records.get(member) as Map<RecordKey, SourceRecord>;
  }

  /** Somebody edits a field of a record, or makes the record. */
  edit(member: MemberId, key: string, path: string, value: Raw): void {
    this.#pass();
    const known = this.of(member).get(recordKey(key));
    const fields = writePath(known?.fields ?? {}, path, value);
    this.of(member).set(recordKey(key), {
      key: recordKey(key),
      fields,
      version: String(this.now),
      modifiedAt: this.now,
    });
  }

  /** Somebody deletes a record. */
  delete(member: MemberId, key: string): void {
    this.#pass();
    this.of(member).delete(recordKey(key));
  }

  value(member: MemberId, key: string, path: string): Raw | undefined {
    return valueOf(this, member, key, path);
  }

  /** A person chooses one of the values of a held field. @returns whether it was taken */
  settle(held: HeldField, value: Shared): boolean {
    const anchor = this.anchors.get(held.anchor);
    if (!anchor) return false;
    const settled = settleHeld(this.#bound, anchor, {
      field: held.field,
      fingerprint: heldFingerprint(held),
      value,
      person: 'Vera',
      at: this.now,
    });
    if (settled.ok) this.#save(settled.anchor);
    return settled.ok;
  }

  /** A person says what becomes of the others after a deletion. */
  sayWhatFollows(id: AnchorId, member: MemberId, end: TieEnd): void {
    const anchor = this.anchors.get(id);
    if (!anchor) return;
    const ties = anchor.ties.map((tie) => (tie.member === member && tie.gone ? { ...tie, end } : tie));
    this.#save({ ...anchor, ties });
  }

  /** A person says that the record of a member is another thing. */
  untie(id: AnchorId, member: MemberId): boolean {
    const anchor = this.anchors.get(id);
    const split = anchor && splitAnchor(anchor, new Set([member]), this.now);
    if (!split) return false;
    for (const a of split.parted.ties) for (const b of split.rest.ties) this.#verdicts.push({ a, b, same: false });
    this.#save(split.rest);
    return true;
  }

  /** A new version is put in force; while a run is under way, at its end. */
  putInForce(definition: Knot): void {
    if (this.#isRunning) {
      this.#coming = definition;
      return;
    }
    const changed = new Map(
      changedMappings(this.#definition, definition).map(({ member, fields }) => [member, fields]),
    );
    this.#definition = definition;
    this.knot = compiled(definition);
    for (const anchor of this.anchors.values()) {
      const ties = anchor.ties.map((tie) => {
        const seen = { ...tie.seen };
        for (const field of changed.get(tie.member) ?? []) delete seen[field];
        return { ...tie, seen };
      });
      this.#save({ ...anchor, ties });
    }
  }

  get definition(): Knot {
    return this.#definition;
  }

  /** One run: read all, match, merge, plan, write, record. */
  async run(settings: WorldRunSettings = {}): Promise<RunOutcome> {
    this.#pass();
    this.#isRunning = true;
    const shuffle = settings.shuffle ?? ((items) => items);
    const read = this.#readAndMatch(shuffle, settings.missing ?? new Set());
    const outcome: MutableOutcome = {
      operations: [],
      held: [],
      problems: [],
      withheld: [],
      asked: [],
      lost: [],
      settled: [],
      places: read.places,
      allWritten: true,
    };
    let readings: ReadonlyMap<AnchorId, Readings> = read.of;
    const tiedBefore = new Map(this.anchors);
    let ids = shuffle([...this.anchors.keys()]);
    for (let pass = 1; ids.length > 0; pass += 1) {
      const before = outcome.operations.length;
      const { raced, late } = await this.#passOver(ids, readings, read.blocked, settings, outcome);
      const below = this.#below(outcome.operations.slice(before));
      if (pass >= mostPasses && below.length === 0) break;
      // What was read before our writes is no edit after them: only what raced is read again. An anchor that a person
      // has changed meanwhile was not written: what was read of it still holds.
      const again = [...raced].map(([id, members]) => [id, this.#readAgain(id, members)] as const);
      const still = late.map((id) => [id, this.#stillOf(id, readings.get(id) ?? new Map(), tiedBefore)] as const);
      readings = new Map([...below.map((id) => [id, new Map()] as const), ...again, ...still]);
      ids = [...readings.keys()];
    }
    this.#isRunning = false;
    this.#knotOfLastRun = this.knot;
    if (this.#coming) this.putInForce(this.#coming);
    this.#coming = undefined;
    return outcome;
  }

  async #passOver(
    ids: readonly AnchorId[],
    readings: ReadonlyMap<AnchorId, Readings>,
    blocked: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>,
    settings: WorldRunSettings,
    outcome: MutableOutcome,
  ): Promise<{ raced: ReadonlyMap<AnchorId, ReadonlySet<MemberId>>; late: readonly AnchorId[] }> {
    const shuffle = settings.shuffle ?? ((items) => items);
    const unread = settings.missing ?? new Set<MemberId>();
    const knot = this.#bound;
    const planned = ids.flatMap((id) => {
      const stored = this.anchors.get(id);
      if (!stored) return [];
      // A store gives the ties of an anchor in any order.
      const anchor = { ...stored, ties: shuffle([...stored.ties]) };
      const planWith = (numbers?: Numbers): Planned => {
        const merge = mergeAnchor({ knot, anchor, readings: readings.get(id) ?? new Map(), now: this.now, numbers });
        putLevel(knot, merge.anchor);
        return { merge, plan: planAnchor(knot, merge, this.now, { blocked: blocked.get(id) ?? new Set(), unread }) };
      };
      const { merge, plan } = this.#withNumbers(id, knot, planWith);
      return [{ id, revision: this.#revisions.get(id) ?? 0, merge, plan }];
    });
    await settings.meanwhile?.('planned');
    const raced = new Map<AnchorId, Set<MemberId>>();
    const late: AnchorId[] = [];
    for (const { id, revision, merge, plan } of planned) {
      if ((this.#revisions.get(id) ?? 0) !== revision) {
        late.push(id);
        continue;
      }
      forget(outcome, id);
      outcome.held.push(...merge.held.map((held) => ({ ...held, anchor: id })));
      outcome.problems.push(...[...merge.problems, ...plan.problems].map((problem) => ({ ...problem, anchor: id })));
      outcome.asked.push(...plan.asked.map((asked) => ({ ...asked, anchor: id })));
      outcome.withheld.push(...plan.withheld);
      outcome.lost.push(...merge.lost.map((lost) => ({ ...lost, anchor: id })));
      for (const [field, { value, why }] of Object.entries(merge.anchor.agreed))
        outcome.settled.push({ anchor: id, field, value, why });
      this.#save(merge.anchor);
      await this.#apply(plan.operations, settings, outcome, raced);
      // What the writes came to is told in the same run.
      if (plan.operations.some(({ kind }) => kind !== 'write back'))
        await this.#apply(this.#tellings(id, blocked.get(id), unread), settings, outcome, raced);
    }
    return { raced, late };
  }

  /** A number that was taken for a thing stays for it, also where somebody changed it meanwhile. */
  #withNumbers(id: AnchorId, knot: CompiledKnot, planWith: (numbers?: Numbers) => Planned): Planned {
    const planned = planWith();
    const trial = new Map(knot.fields.flatMap((field) => (field.series ? [[field.id, 'N?']] : [])));
    const needed = neededNumbers(knot, planned, planWith, trial);
    if (needed.length === 0) return planned;
    const numbers = needed.map((field): [FieldId, string] => {
      const taken = this.numbers.get(`${id} ${field}`) ?? `N${this.numbers.size + 1}`;
      this.numbers.set(`${id} ${field}`, taken);
      return [field, taken];
    });
    return planWith(new Map(numbers));
  }

  /** What is to be told of an anchor as it stands, once nothing else is to be written of it. */
  #tellings(
    id: AnchorId,
    blocked: ReadonlySet<MemberId> | undefined,
    unread: ReadonlySet<MemberId>,
  ): readonly Operation[] {
    const anchor = this.anchors.get(id);
    if (!anchor) return [];
    const knot = this.#bound;
    const merge = mergeAnchor({ knot, anchor, readings: new Map(), now: this.now });
    const { operations } = planAnchor(knot, merge, this.now, { blocked: blocked ?? new Set(), unread });
    return operations.every(({ kind }) => kind === 'write back') ? operations : [];
  }

  async #apply(
    operations: readonly Operation[],
    settings: WorldRunSettings,
    outcome: MutableOutcome,
    raced: Map<AnchorId, Set<MemberId>>,
  ): Promise<void> {
    for (const operation of operations) {
      const id = operation.anchor;
      const values = new Map(operation.changes.map(({ path, after }) => [path, after]));
      const fate = settings.fate?.({ ...operation, values }) ?? 'ok';
      if (fate === 'raced') settings.race?.(operation);
      outcome.operations.push(operation);
      const result = this.#write(operation, fate);
      await settings.meanwhile?.('writing');
      if (result.kind !== 'written') outcome.allWritten = false;
      if (result.kind === 'not done' && fate === 'raced' && operation.kind !== 'create')
        raced.set(id, (raced.get(id) ?? new Set()).add(operation.member));
      // Who comes late applies what it has to say to the newer anchor.
      const current = this.anchors.get(id);
      if (current) this.#save(afterWrite(this.#bound, current, operation, result, this.now));
    }
  }

  /** What was read of the records that are tied to an anchor still. */
  #stillOf(id: AnchorId, readings: Readings, before: ReadonlyMap<AnchorId, Anchor>): Readings {
    const keyOfTie = (anchor: Anchor | undefined, member: MemberId) =>
      anchor?.ties.find((tie) => tie.member === member)?.key;
    const isStill = ([member]: [MemberId, Reading]): boolean =>
      keyOfTie(this.anchors.get(id), member) === keyOfTie(before.get(id), member);
    return new Map([...readings].filter(isStill));
  }

  #readAgain(id: AnchorId, members: ReadonlySet<MemberId>): Readings {
    const readings = new Map<MemberId, Reading>();
    for (const tie of this.anchors.get(id)?.ties ?? []) {
      const record = members.has(tie.member) && !tie.gone ? this.of(tie.member).get(tie.key) : undefined;
      if (record) readings.set(tie.member, this.#reading(tie.member, record));
    }
    return readings;
  }

  #write(operation: Operation, fate: WriteFate): WriteResult {
    if (fate === 'fails') return { kind: 'not done' };
    if (fate === 'refused') return { kind: 'refused', words: 'no' };
    const key = operation.kind === 'create' ? recordKey(`${operation.member}-${(this.#next += 1)}`) : operation.key;
    const present = this.of(operation.member).get(key);
    if (operation.kind !== 'create' && !present) return { kind: 'gone' };
    if (operation.kind !== 'create' && present?.version !== operation.version) return { kind: 'not done' };
    if (operation.kind === 'delete' || operation.kind === 'archive') {
      this.of(operation.member).delete(key);
      return { kind: 'written', key, record: undefined };
    }
    const fields = operation.changes.reduce(
      (done, { path, after }) => writePath(done, path, keptBySystem(fate, path, after)),
      present?.fields ?? {},
    );
    const record: SourceRecord = { key, fields, version: `${this.now}/${(this.#next += 1)}`, modifiedAt: this.now };
    this.of(operation.member).set(key, record);
    return { kind: 'written', key, record: fate === 'silent' ? undefined : record };
  }

  #readAndMatch(shuffle: <T>(items: T[]) => T[], missing: ReadonlySet<MemberId>) {
    const of = new Map<AnchorId, Map<MemberId, Reading>>();
    const tied = new Map<string, AnchorId>();
    for (const anchor of this.anchors.values()) for (const tie of anchor.ties) tied.set(recordId(tie), anchor.id);
    const newcomers: Newcomer[] = [];
    const readings = new Map<string, Reading>();
    const places = new Map<string, Place[]>();
    const put = (name: string, place: Place): void => void places.set(name, [...(places.get(name) ?? []), place]);
    for (const member of shuffle([...this.records.keys()].filter((id) => !missing.has(id)))) {
      for (const record of shuffle([...this.of(member).values()])) {
        const name = recordId({ member, key: record.key });
        const anchor = tied.get(name);
        const takesPart = this.knot.takesPart(member, record.fields, this.now);
        if (anchor === undefined && takesPart.ok && !takesPart.value) {
          put(name, 'outside the filter');
          continue;
        }
        if (anchor !== undefined && this.#isUnchanged(anchor, member, record)) {
          this.readAt.set(name, this.now);
          put(name, 'tied');
          continue;
        }
        const reading = this.#reading(member, record);
        if (anchor !== undefined) {
          of.set(anchor, (of.get(anchor) ?? new Map()).set(member, reading));
          put(name, 'tied');
          continue;
        }
        readings.set(name, reading);
        const values = this.knot.comparableValues(member, reading.fields);
        newcomers.push({
          member,
          key: record.key,
          keys: this.knot.keyRules.map((rule) => keyOf(rule, values)),
          canStart: !reading.rejected && this.knot.member(member).startsAnchors,
        });
      }
      this.#markGone(member);
    }
    const matching = new RecordMatching(
      this.knot.keyRules.map(({ name }) => name),
      newcomers,
      this.#known(),
      () => anchorId(`a${(this.#next += 1)}`),
      new Verdicts(this.#verdicts),
    )
      .applyKeys()
      .finish();
    for (const { newcomer, anchor: id } of matching.ties) {
      const { member, key } = newcomer;
      const anchor = this.anchors.get(id) ?? { id, agreed: {}, ties: [], beganIn: [member], parkedCreates: {} };
      const others = anchor.ties.filter((tie) => tie.member !== member);
      this.#save({ ...anchor, ties: [...others, { member, key, seen: {}, ahead: {}, left: {} }] });
      of.set(id, (of.get(id) ?? new Map()).set(member, readings.get(recordId(newcomer)) as Reading));
      put(recordId(newcomer), 'tied');
    }
    for (const doubt of matching.doubts)
      for (const key of 'keys' in doubt ? doubt.keys : [doubt.key])
        put(recordId({ member: doubt.member, key }), 'waiting');
    for (const newcomer of matching.unmatched)
      put(recordId(newcomer), readings.get(recordId(newcomer))?.rejected ? 'rejected' : 'untied');
    return { of, blocked: blockedMembers(matching.blocked), places };
  }

  /** An unchanged record under an unchanged definition is not merged: what is known of it is what it holds. */
  #isUnchanged(id: AnchorId, member: MemberId, record: SourceRecord): boolean {
    const tie = this.anchors.get(id)?.ties.find((tie) => tie.member === member);
    if (!tie || tie.gone || this.knot !== this.#knotOfLastRun || tie.version !== record.version) return false;
    const [known, fields] = [expectedFields(tie), this.knot.rawFields(member, record)];
    return [...Object.keys(known), ...Object.keys(fields)].every((field) => rawEqual(known[field], fields[field]));
  }

  #reading(member: MemberId, record: SourceRecord): Reading {
    this.readAt.set(recordId({ member, key: record.key }), this.now);
    const fields = this.knot.rawFields(member, record);
    const { says } = this.knot.failedChecks(member, fields);
    const rejected = says.length > 0 ? { rejected: says } : {};
    return { fields, version: record.version, modifiedAt: record.modifiedAt, ...rejected };
  }

  #markGone(member: MemberId): void {
    for (const anchor of this.anchors.values()) {
      const tie = anchor.ties.find((tie) => tie.member === member && !tie.gone);
      if (!tie || this.of(member).has(tie.key)) continue;
      this.#save({ ...anchor, ties: anchor.ties.map((one) => (one === tie ? { ...tie, gone: true } : one)) });
    }
  }

  #known() {
    const byKey = new Map<string, Set<AnchorId>>();
    const byRecord = new Map<string, AnchorId>();
    for (const anchor of this.anchors.values()) {
      if (!isAlive(anchor)) continue;
      const agreed = new Map(Object.entries(anchor.agreed).map(([field, { value }]) => [field, value]));
      const ofTies = anchor.ties
        .filter(({ gone }) => !gone)
        .map((tie) => this.knot.comparableValues(tie.member, tie.seen));
      for (const tie of anchor.ties) byRecord.set(recordId(tie), anchor.id);
      for (const values of [agreed, ...ofTies]) {
        for (const [rule, keyRule] of this.knot.keyRules.entries()) {
          const key = keyOf(keyRule, values);
          if (key !== undefined) byKey.set(`${rule}/${key}`, (byKey.get(`${rule}/${key}`) ?? new Set()).add(anchor.id));
        }
      }
    }
    return {
      withKey: (rule: number, key: string) => [...(byKey.get(`${rule}/${key}`) ?? [])],
      anchorOf: (record: RecordName) => byRecord.get(recordId(record)),
      tiedKey: (anchor: AnchorId, member: MemberId) =>
        this.anchors.get(anchor)?.ties.find((tie) => tie.member === member)?.key,
    };
  }

  #save(anchor: Anchor): void {
    this.anchors.set(anchor.id, anchor);
    this.#revisions.set(anchor.id, (this.#revisions.get(anchor.id) ?? 0) + 1);
  }

  #pass(): void {
    this.now += 10_000;
  }

  /** A text of everything that matters, with anchors named by their ties, for comparing two worlds. */
  portrait(): string {
    const anchors = [...this.anchors.values()].map((anchor) => ({
      ties: anchor.ties
        .map(({ member, key, seen, ahead, gone, end, left, rejected, outcomes, unacknowledgedSince }) => [
          [member, key, gone ?? false, end ?? null, rejected ?? null, outcomes ?? null, unacknowledgedSince ?? null],
          [Object.entries(seen).sort(), Object.keys(ahead).sort(), Object.entries(left).sort()],
        ])
        .sort(),
      agreed: Object.entries(anchor.agreed)
        .map(([field, { value, by, also }]) => [field, value, by, also ?? []])
        .sort(),
    }));
    const records = [...this.records].map(([member, all]) => [
      member,
      [...all.values()].map(({ key, fields }) => [key, Object.entries(fields).sort()]).sort(),
    ]);
    return JSON.stringify([anchors.map((anchor) => JSON.stringify(anchor)).sort(), records.sort()]);
  }
}

const compiledBefore = new WeakMap<Knot, CompiledKnot>();

function compiled(definition: Knot): CompiledKnot {
  const known = compiledBefore.get(definition);
  if (known) return known;
  const outcome = compileKnot(definition);
  if (!outcome.ok) throw new Error(JSON.stringify(outcome.problems));
  compiledBefore.set(definition, outcome.knot);
  return outcome.knot;
}

/** A later pass over an anchor replaces what is open of it; what was lost stays lost. */
function forget(outcome: MutableOutcome, id: AnchorId): void {
  outcome.held = outcome.held.filter(({ anchor }) => anchor !== id);
  outcome.problems = outcome.problems.filter(({ anchor }) => anchor !== id);
  outcome.asked = outcome.asked.filter(({ anchor }) => anchor !== id);
}
