import { compileKnot, type CompiledKnot, type Knot } from '../definition/index.js';
import { keyOf, type Newcomer, RecordMatching } from '../identity/index.js';
import { type Anchor, type Held, type LostValue, mergeAnchor, type Problem, type Reading } from '../merge/index.js';
import { afterWrite, type Operation, planAnchor, type Withheld, type WriteResult } from '../plan/index.js';
import {
  type AnchorId,
  anchorId,
  type FieldId,
  type MemberId,
  type Raw,
  readPath,
  type RecordKey,
  recordKey,
  type SourceRecord,
  writePath,
} from '../record/index.js';

/**
 * What can happen to a write: it succeeds, fails, is refused, somebody edits in between, or the system keeps something
 * else.
 */
export type WriteFate = 'ok' | 'fails' | 'refused' | 'raced' | 'altered';

export interface RunOutcome {
  readonly operations: readonly Operation[];
  readonly held: readonly (Held & { readonly anchor: AnchorId })[];
  readonly problems: readonly Problem[];
  readonly withheld: readonly Withheld[];
  readonly lost: readonly (LostValue & { readonly field: FieldId })[];
  readonly allWritten: boolean;
}

/**
 * A small installation in memory: members with records, and the engine's own state, driven by the pure functions alone.
 * It stands for what the server does, so that the laws can be tested on the engine by itself.
 */
export class World {
  readonly knot: CompiledKnot;
  readonly records = new Map<MemberId, Map<RecordKey, SourceRecord>>();
  anchors = new Map<AnchorId, Anchor>();
  now = 1_000_000;
  #next = 0;

  constructor(definition: Knot) {
    const compiled = compileKnot(definition);
    if (!compiled.ok) throw new Error(JSON.stringify(compiled.problems));
    this.knot = compiled.knot;
    for (const { id } of definition.members) this.records.set(id, new Map());
  }

  of(member: MemberId): Map<RecordKey, SourceRecord> {
    return this.records.get(member) as Map<RecordKey, SourceRecord>;
  }

  /** Somebody edits a field of a record, or makes the record. */
  edit(member: MemberId, key: string, path: string, value: Raw): void {
    this.now += 10_000;
    const known = this.of(member).get(recordKey(key));
    const fields = writePath(known?.fields ?? {}, path, value);
    this.of(member).set(recordKey(key), {
      key: recordKey(key),
      fields,
      version: String(this.now),
      modifiedAt: this.now,
    });
  }

  value(member: MemberId, key: string, path: string): Raw | undefined {
    return readPath(this.of(member).get(recordKey(key))?.fields ?? {}, path);
  }

  /**
   * One run: read all, match, merge, plan, write, record. `order` shuffles what is read; `fate` says how each write
   * ends.
   */
  run(
    options: {
      fate?: (operation: Operation) => WriteFate;
      race?: (operation: Operation) => void;
      shuffle?: <T>(items: T[]) => T[];
    } = {},
  ): RunOutcome {
    this.now += 10_000;
    const shuffle = options.shuffle ?? ((items) => items);
    const readings = this.#readAndMatch(shuffle);
    const outcome = {
      operations: [] as Operation[],
      held: [] as (Held & { anchor: AnchorId })[],
      problems: [] as Problem[],
      withheld: [] as Withheld[],
      lost: [] as (LostValue & { field: FieldId })[],
      allWritten: true,
    };
    for (const id of shuffle([...this.anchors.keys()])) {
      const stored = this.anchors.get(id) as Anchor;
      // A store gives the ties of an anchor in any order.
      const merge = mergeAnchor({
        knot: this.knot,
        anchor: { ...stored, ties: shuffle([...stored.ties]) },
        readings: readings.of.get(id) ?? new Map(),
        now: this.now,
      });
      const plan = planAnchor(this.knot, merge, readings.blocked.get(id) ?? new Set(), this.now);
      outcome.held.push(...merge.held.map((held) => ({ ...held, anchor: id })));
      outcome.problems.push(...merge.problems, ...plan.problems);
      outcome.withheld.push(...plan.withheld);
      outcome.lost.push(...merge.lost);
      let anchor = merge.anchor;
      for (const operation of plan.operations) {
        const fate = options.fate?.(operation) ?? 'ok';
        if (fate === 'raced') options.race?.(operation);
        if (fate !== 'ok' && fate !== 'altered') outcome.allWritten = false;
        outcome.operations.push(operation);
        anchor = afterWrite(this.knot, anchor, operation, this.#write(operation, fate));
      }
      this.anchors.set(id, anchor);
    }
    return outcome;
  }

  #write(operation: Operation, fate: WriteFate): WriteResult {
    if (fate === 'fails') return { kind: 'not done' };
    if (fate === 'refused') return { kind: 'refused', words: 'no' };
    const key = operation.kind === 'create' ? recordKey(`${operation.member}-${(this.#next += 1)}`) : operation.key;
    const present = this.of(operation.member).get(key);
    if (operation.kind === 'update' && present?.version !== operation.version) return { kind: 'not done' };
    const fields = operation.changes.reduce(
      (done, { path, after }) =>
        writePath(
          done,
          path,
          fate === 'altered' && path === 'name' && typeof after === 'string' ? after.slice(0, 2) : after,
        ),
      present?.fields ?? {},
    );
    const record: SourceRecord = {
      key,
      fields,
      version: `${this.now}/${key}/${(this.#next += 1)}`,
      modifiedAt: this.now,
    };
    this.of(operation.member).set(key, record);
    return { kind: 'written', key, record };
  }

  #readAndMatch(shuffle: <T>(items: T[]) => T[]) {
    const of = new Map<AnchorId, Map<MemberId, Reading>>();
    const tied = new Map<string, AnchorId>();
    for (const anchor of this.anchors.values())
      for (const tie of anchor.ties) tied.set(`${tie.member}/${tie.key}`, anchor.id);
    const newcomers: Newcomer[] = [];
    const readings = new Map<string, Reading>();
    for (const member of shuffle([...this.records.keys()])) {
      for (const record of shuffle([...this.of(member).values()])) {
        const fields = this.knot.rawFields(member, record);
        const rejected = this.knot.failedChecks(member, fields).says;
        const reading: Reading = { fields, version: record.version, modifiedAt: record.modifiedAt, rejected };
        const anchor = tied.get(`${member}/${record.key}`);
        if (anchor !== undefined) of.set(anchor, (of.get(anchor) ?? new Map()).set(member, reading));
        else {
          readings.set(`${member}/${record.key}`, reading);
          const values = this.knot.sharedValues(member, fields);
          newcomers.push({
            member,
            key: record.key,
            keys: this.knot.keyRules.map((rule) => keyOf(rule, values)),
            canStart: rejected.length === 0,
          });
        }
      }
    }
    const matching = new RecordMatching(
      this.knot.keyRules.map(({ name }) => name),
      newcomers,
      this.#known(),
      () => anchorId(`a${(this.#next += 1)}`),
    )
      .applyKeys()
      .finish();
    for (const { newcomer, anchor: id } of matching.ties) {
      const anchor = this.anchors.get(id) ?? {
        id,
        agreed: {},
        ties: [],
        beganIn: [newcomer.member],
        parkedCreates: {},
      };
      this.anchors.set(id, {
        ...anchor,
        ties: [...anchor.ties, { member: newcomer.member, key: newcomer.key, seen: {}, ahead: {}, left: {} }],
      });
      of.set(
        id,
        (of.get(id) ?? new Map()).set(newcomer.member, readings.get(`${newcomer.member}/${newcomer.key}`) as Reading),
      );
    }
    return { of, blocked: matching.blocked };
  }

  #known() {
    const byKey = new Map<string, Set<AnchorId>>();
    for (const anchor of this.anchors.values()) {
      const all = [
        new Map(Object.entries(anchor.agreed).map(([field, { value }]) => [field, value])),
        ...anchor.ties.map((tie) => this.knot.sharedValues(tie.member, tie.seen)),
      ];
      for (const values of all) {
        for (const [rule, keyRule] of this.knot.keyRules.entries()) {
          const key = keyOf(keyRule, values);
          if (key !== undefined) byKey.set(`${rule}/${key}`, (byKey.get(`${rule}/${key}`) ?? new Set()).add(anchor.id));
        }
      }
    }
    return {
      withKey: (rule: number, key: string) => [...(byKey.get(`${rule}/${key}`) ?? [])],
      anchorOf: () => undefined,
      tiedKey: (anchor: AnchorId, member: MemberId) =>
        this.anchors.get(anchor)?.ties.find((tie) => tie.member === member)?.key,
    };
  }

  /** A text of everything that matters, with anchors named by their ties, for comparing two worlds. */
  portrait(): string {
    const anchors = [...this.anchors.values()].map((anchor) => ({
      ties: anchor.ties
        .map(({ member, key, seen, ahead }) => [member, key, Object.entries(seen).sort(), Object.keys(ahead).sort()])
        .sort(),
      agreed: Object.entries(anchor.agreed)
        .map(([field, { value, by }]) => [field, value, by])
        .sort(),
    }));
    const records = [...this.records]
      .map(([member, all]) => [
        member,
        [...all.values()].map(({ key, fields }) => [key, Object.entries(fields).sort()]).sort(),
      ])
      .sort();
    return JSON.stringify([anchors.map((anchor) => JSON.stringify(anchor)).sort(), records]);
  }
}
