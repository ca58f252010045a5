import type { Knot } from '../definition/index.js';
import { recordId } from '../identity/index.js';
import type { Held } from '../merge/index.js';
import type { Operation } from '../plan/index.js';
import { type AnchorId, isBlank, type MemberId, type Raw, rawEqual } from '../record/index.js';
import { EditLedger } from './ledger.js';
import { type RunOutcome, World, type WriteFate } from './world.js';

/** What a person does in the application, while a run goes or between two. */
export type PersonAct =
  | { readonly kind: 'settle'; readonly choice: number }
  | { readonly kind: 'untie'; readonly member: number; readonly record: number }
  | { readonly kind: 'say what follows'; readonly end: 'keep others' | 'archive others' | 'delete others' }
  | { readonly kind: 'put in force'; readonly version: number };

/** Something that happens to an installation. Members and records are counted, modulo how many there are. */
export type Happening =
  | {
      readonly kind: 'edit';
      readonly member: number;
      readonly record: number;
      readonly path: string;
      readonly value: Raw;
    }
  | { readonly kind: 'delete'; readonly member: number; readonly record: number }
  | { readonly kind: 'act'; readonly act: PersonAct }
  | {
      readonly kind: 'run';
      /** In turn, one for each write; all succeed when left out. */
      readonly fates?: readonly WriteFate[];
      /** The edit that is made to a record whose write is raced. */
      readonly race?: { readonly path: string; readonly value: Raw };
      readonly meanwhile?: { readonly moment: 'planned' | 'writing'; readonly act: PersonAct } | undefined;
      /** The member that cannot be read. */
      readonly missing?: number | undefined;
    };

/**
 * Plays a history and keeps account of it. `versions` are definitions of the same knot, of which the first is in force
 * at the beginning.
 */
export class Play {
  readonly world: World;
  readonly ledger: EditLedger;
  readonly faults: string[] = [];
  readonly #versions: readonly Knot[];
  #held: readonly (Held & { readonly anchor: AnchorId })[] = [];
  readonly #untied: { readonly member: MemberId; readonly key: string }[] = [];
  /** Anchors of which a person said what is to be removed. */
  readonly #said = new Set<AnchorId>();

  constructor(versions: readonly [Knot, ...Knot[]]) {
    this.#versions = versions;
    this.world = new World(versions[0]);
    this.ledger = new EditLedger(this.world);
  }

  play(happenings: readonly Happening[]): this {
    for (const happening of happenings) this.#happen(happening);
    return this;
  }

  #beginAnew(): void {
    for (const { member, key } of this.#untied.splice(0)) this.ledger.begunAnew(member, key);
  }

  run(happening: Omit<Extract<Happening, { kind: 'run' }>, 'kind'> = {}): RunOutcome {
    return this.#run({ kind: 'run', ...happening });
  }

  #happen(happening: Happening): void {
    this.#beginAnew();
    switch (happening.kind) {
      case 'edit':
        this.#edit(happening);
        break;
      case 'delete': {
        const { member, key } = this.#recordOf(happening);
        if (!this.world.of(member).has(key as never)) break;
        this.world.delete(member, key);
        this.ledger.deleted(member, key);
        break;
      }
      case 'act':
        this.#act(happening.act);
        break;
      case 'run':
        this.#run(happening);
        break;
      default:
        throw new Error(`unknown ${JSON.stringify(happening satisfies never)}`);
    }
  }

  #edit(edit: Extract<Happening, { kind: 'edit' }>): void {
    const { member, key } = this.#recordOf(edit);
    if (!this.world.of(member).has(key as never)) this.world.edit(member, key, 'key', `k${edit.record}`);
    this.#type(member, key, edit.path, edit.value);
  }

  /** Who types what stands there already has edited nothing. */
  #type(member: MemberId, key: string, path: string, value: Raw): void {
    const before = this.world.value(member, key, path);
    this.world.edit(member, key, path, value);
    const isKnown = [...this.world.anchors.values()].some(({ ties }) =>
      ties.some((tie) => tie.member === member && tie.key === key && tie.seen[path] !== undefined),
    );
    const isSame =
      before === undefined
        ? isBlank(value) && !isKnown
        : rawEqual(before, value) || (isBlank(before) && isBlank(value));
    if (!isSame) this.ledger.edited(member, key, path, value);
  }

  #act(act: PersonAct): void {
    switch (act.kind) {
      case 'settle': {
        const held = this.#held[act.choice % Math.max(1, this.#held.length)];
        if (!held) break;
        const anchor = this.world.anchors.get(held.anchor);
        if (anchor && this.world.settle(held, act.choice)) this.ledger.settled(anchor, held.field);
        break;
      }
      case 'untie': {
        const { member, key } = this.#recordOf(act);
        const anchor = this.#anchorOf(member, key);
        const alive = anchor?.ties.filter(({ gone }) => !gone) ?? [];
        if (!anchor || alive.length < 2) break;
        this.world.untie(anchor.id, member);
        // A write that is under way may reach the record still: it begins anew with what it then holds.
        this.#untied.push({ member, key });
        break;
      }
      case 'say what follows':
        for (const anchor of this.world.anchors.values()) {
          const asked = anchor.ties.find(({ gone, end }) => gone && end === 'ask');
          if (!asked) continue;
          this.#said.add(anchor.id);
          this.world.sayWhatFollows(anchor.id, asked.member, act.end);
        }
        break;
      case 'put in force':
        this.world.putInForce(this.#versions[act.version % this.#versions.length] as Knot);
        break;
      default:
        throw new Error(`unknown ${JSON.stringify(act satisfies never)}`);
    }
  }

  #run({ fates = [], race, meanwhile, missing }: Extract<Happening, { kind: 'run' }>): RunOutcome {
    this.#beginAnew();
    const before = this.ledger.before();
    let writes = 0;
    let acted = false;
    const outcome = this.world.run({
      fate: (operation) => {
        this.#checkRemoval(operation);
        writes += 1;
        return fates.length === 0 ? 'ok' : (fates[(writes - 1) % fates.length] as WriteFate);
      },
      race: (operation) => {
        if (operation.kind === 'create' || !race || !this.world.of(operation.member).has(operation.key)) return;
        this.#type(operation.member, operation.key, race.path, race.value);
      },
      meanwhile: (moment) => {
        if (acted || moment !== meanwhile?.moment) return;
        acted = true;
        this.#act(meanwhile.act);
      },
      ...(missing === undefined ? {} : { missing: new Set([this.#memberAt(missing)]) }),
    });
    this.#held = outcome.held;
    this.faults.push(...this.ledger.faults(before, outcome));
    for (const [name, places] of outcome.places)
      if (places.length !== 1) this.faults.push(`${name} is in ${places.join(' and ')}`);
    if (missing === undefined)
      for (const [member, records] of this.world.records)
        for (const key of records.keys())
          if (!outcome.places.has(recordId({ member, key })) && !this.#wasMade(outcome, member))
            this.faults.push(`${member}/${key} is in no list`);
    return outcome;
  }

  /** Nothing that somebody typed is removed, unless a person said so. */
  #checkRemoval(operation: Operation): void {
    if (operation.kind !== 'archive' && operation.kind !== 'delete') return;
    if (this.#said.has(operation.anchor)) return;
    const readAt = this.world.readAt.get(recordId(operation)) ?? 0;
    if (this.ledger.holdsEdit(operation.member, operation.key) && readAt > 0)
      this.faults.push(`${operation.member}/${operation.key} is removed with an edit that waits`);
  }

  #wasMade(outcome: RunOutcome, member: MemberId): boolean {
    return outcome.operations.some(({ kind, member: of }) => kind === 'create' && of === member);
  }

  #memberAt(index: number): MemberId {
    const members = this.world.knot.members;
    return (members[index % members.length] as { id: MemberId }).id;
  }

  /** The record of that number in a member: the one that has its key now, or the one that somebody would make. */
  #recordOf({ member: at, record }: { readonly member: number; readonly record: number }) {
    const member = this.#memberAt(at);
    const known = [...this.world.of(member).values()].find(({ fields }) => fields.key === `k${record}`);
    return { member, key: (known?.key ?? `${member}${record}`) as string };
  }

  #anchorOf(member: MemberId, key: string) {
    return [...this.world.anchors.values()].find(({ ties }) =>
      ties.some((tie) => tie.member === member && tie.key === key && !tie.gone),
    );
  }
}
