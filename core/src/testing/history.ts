import type { Knot } from '../definition/index.js';
import { recordId } from '../identity/index.js';
import { type AnchorId, anchorId, isBlank, type MemberId, type Raw, rawEqual, type Shared } from '../record/index.js';
import { EditLedger, isReference } from './ledger.js';
import {
  type HeldField,
  type PlayedInstallation,
  type PlayedOutcome,
  type PlayedWrite,
  valueOf,
  type WriteFate,
} from './played.js';
import { World } from './world.js';

/** What a person does in the application, while a run goes or between two. */
export type PersonAct =
  | { readonly kind: 'settle'; readonly choice: number }
  | { readonly kind: 'untie'; readonly member: number; readonly record: number }
  | { readonly kind: 'say what follows'; readonly end: 'keep others' | 'archive others' | 'delete others' }
  | { readonly kind: 'put in force'; readonly version: number };

/** Where a member says what its record stands under. */
const levelPath = 'parent';

/** A record is put under another one of its member, which may be there or come later, or under none. */
export interface Move {
  readonly kind: 'move';
  readonly member: number;
  readonly record: number;
  readonly to: number | null;
}

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
  | Move
  | { readonly kind: 'act'; readonly act: PersonAct }
  | RunHappening;

export interface RunHappening {
  readonly kind: 'run';
  /** In turn, one for each write; all succeed when left out. */
  readonly fates?: readonly WriteFate[];
  /** The edit that is made to a record whose write is raced. */
  readonly race?: { readonly path: string; readonly value: Raw } | Pick<Move, 'to'>;
  readonly meanwhile?: { readonly moment: 'planned' | 'writing'; readonly act: PersonAct } | undefined;
  /** The member that cannot be read. */
  readonly missing?: number | undefined;
}

/** Two or more definitions of the same knot, of which the first is in force at the beginning. */
export type Versions = readonly [Knot, ...Knot[]];

/** Begins to play in a world of its own. */
export function playInWorld(versions: Versions): Play<World> {
  return new Play(new World(versions[0]), versions);
}

/** Plays a history on an installation, and keeps account of it. */
export class Play<Installation extends PlayedInstallation = PlayedInstallation> {
  readonly installation: Installation;
  readonly ledger: EditLedger;
  readonly faults: string[] = [];
  readonly #versions: Versions;
  #held: readonly HeldField[] = [];
  readonly #untied: { readonly member: MemberId; readonly key: string }[] = [];
  /** Anchors of which a person said what is to be removed. */
  readonly #said = new Set<AnchorId>();

  constructor(installation: Installation, versions: Versions) {
    this.installation = installation;
    this.#versions = versions;
    this.ledger = new EditLedger(installation);
  }

  async play(happenings: readonly Happening[]): Promise<this> {
    for (const happening of happenings) await this.#happen(happening);
    return this;
  }

  #beginAnew(): void {
    for (const { member, key } of this.#untied.splice(0)) this.ledger.begunAnew(member, key);
  }

  async run(happening: Omit<RunHappening, 'kind'> = {}): Promise<Awaited<ReturnType<Installation['run']>>> {
    return this.#run({ kind: 'run', ...happening });
  }

  async #happen(happening: Happening): Promise<void> {
    this.#beginAnew();
    switch (happening.kind) {
      case 'edit':
        this.#edit(happening);
        break;
      case 'delete': {
        const { member, key } = this.#recordOf(happening);
        if (!this.#holds(member, key)) break;
        this.installation.delete(member, key);
        this.ledger.deleted(member, key);
        break;
      }
      case 'move': {
        const { member, key } = this.#recordOf(happening);
        if (this.#holds(member, key)) this.#put(member, key, happening.to);
        break;
      }
      case 'act':
        await this.#act(happening.act);
        break;
      case 'run':
        await this.#run(happening);
        break;
      default:
        throw new Error(`unknown ${JSON.stringify(happening satisfies never)}`);
    }
  }

  #holds(member: MemberId, key: string | undefined): boolean {
    return this.installation.records.get(member)?.has(key as never) === true;
  }

  #edit(edit: Extract<Happening, { kind: 'edit' }>): void {
    const { member, key } = this.#recordOf(edit);
    if (!this.#holds(member, key)) this.installation.edit(member, key, 'key', `k${edit.record}`);
    this.#type(member, key, edit.path, edit.value);
  }

  /** What stands under what has laws of its own: the ledger keeps no account of it. */
  #put(member: MemberId, key: string, to: number | null): void {
    const memberAt = this.installation.knot.members.findIndex(({ id }) => id === member);
    const value = to === null ? null : this.#recordOf({ member: memberAt, record: to }).key;
    this.installation.edit(member, key, levelPath, value);
  }

  /** Who types what stands there already has edited nothing. */
  #type(member: MemberId, key: string, path: string, value: Raw): void {
    const before = valueOf(this.installation, member, key, path);
    this.installation.edit(member, key, path, value);
    const isKnown = [...this.installation.anchors.values()].some(({ ties }) =>
      ties.some((tie) => tie.member === member && tie.key === key && tie.seen[path] !== undefined),
    );
    const isSame =
      before === undefined
        ? isBlank(value) && !isKnown
        : rawEqual(before, value) || (isBlank(before) && isBlank(value));
    if (!isSame) this.ledger.edited(member, key, path, value);
    else this.ledger.retyped(member, key, path, value);
  }

  async #act(act: PersonAct): Promise<void> {
    const { installation } = this;
    switch (act.kind) {
      case 'settle': {
        const held = this.#held[act.choice % Math.max(1, this.#held.length)];
        const anchor = held && installation.anchors.get(held.anchor);
        if (!held || !anchor) break;
        const values = [...held.candidates.map(({ value }) => value), ...(held.base ? [held.base.value] : [])];
        const value = values[act.choice % values.length] ?? null;
        const isTaken = await installation.settle(held, value);
        if (isTaken && !isReference(installation.knot, held.field)) this.ledger.settled(anchor, held.field, value);
        break;
      }
      case 'untie': {
        const { member, key } = this.#recordOf(act);
        const anchor = this.#anchorOf(member, key);
        const alive = anchor?.ties.filter(({ gone }) => !gone) ?? [];
        if (!anchor || alive.length < 2) break;
        if (!(await installation.untie(anchor.id, member))) break;
        this.ledger.parted(anchor, member);
        // A write that is under way may reach the record still: it begins anew with what it then holds.
        this.#untied.push({ member, key });
        break;
      }
      case 'say what follows':
        for (const anchor of installation.anchors.values()) {
          const asked = anchor.ties.find(({ gone, end }) => gone && end === 'ask');
          if (!asked) continue;
          this.#said.add(anchor.id);
          await installation.sayWhatFollows(anchor.id, asked.member, act.end);
        }
        break;
      case 'put in force':
        this.ledger.redefined();
        await installation.putInForce(this.#versions[act.version % this.#versions.length] as Knot);
        break;
      default:
        throw new Error(`unknown ${JSON.stringify(act satisfies never)}`);
    }
  }

  async #run({
    fates = [],
    race,
    meanwhile,
    missing,
  }: RunHappening): Promise<Awaited<ReturnType<Installation['run']>>> {
    this.#beginAnew();
    const { installation } = this;
    const before = this.ledger.before();
    let writes = 0;
    let acted = false;
    const outcome = await installation.run({
      fate: (write) => {
        this.#checkRemoval(write);
        this.#checkReferences(write);
        writes += 1;
        return fates.length === 0 ? 'ok' : (fates[(writes - 1) % fates.length] as WriteFate);
      },
      race: ({ kind, member, key }) => {
        if (kind === 'create' || key === undefined || !race || !this.#holds(member, key)) return;
        if ('to' in race) this.#put(member, key, race.to);
        else this.#type(member, key, race.path, race.value);
      },
      meanwhile: async (moment) => {
        if (acted || moment !== meanwhile?.moment) return;
        acted = true;
        await this.#act(meanwhile.act);
      },
      ...(missing === undefined ? {} : { missing: new Set([this.#memberAt(missing)]) }),
    });
    this.#held = outcome.held;
    this.faults.push(...this.ledger.faults(before, outcome), ...circlesIn(installation));
    for (const [name, places] of outcome.places)
      if (places.length !== 1) this.faults.push(`${name} is in ${places.join(' and ')}`);
    if (missing === undefined)
      for (const [member, records] of installation.records)
        for (const key of records.keys())
          if (!outcome.places.has(recordId({ member, key })) && !this.#wasMade(outcome, member))
            this.faults.push(`${member}/${key} is in no list`);
    return outcome as Awaited<ReturnType<Installation['run']>>;
  }

  /** Nothing that somebody typed is removed, unless a person said so. */
  #checkRemoval({ kind, member, key }: PlayedWrite): void {
    if (key === undefined || (kind !== 'archive' && kind !== 'delete')) return;
    if (this.#said.has(this.#anchorOf(member, key)?.id as AnchorId)) return;
    const readAt = this.installation.readAt.get(recordId({ member, key })) ?? 0;
    if (this.ledger.holdsEdit(member, key) && readAt > 0)
      this.faults.push(`${member}/${key} is removed with an edit that waits`);
  }

  /** *Ordered*: no write refers to a record that is not there, unless nobody can know that it is gone. */
  #checkReferences({ member, values }: PlayedWrite): void {
    const { knot } = this.installation;
    for (const { id, refersTo, mappings } of knot.fields) {
      const value = values?.get(mappings.get(member)?.field ?? '');
      if (refersTo !== knot.id || typeof value !== 'string') continue;
      if (this.#holds(member, value) || this.#anchorOf(member, value)) continue;
      this.faults.push(`${value} was written as ${id} to ${member}, and is not there`);
    }
  }

  #wasMade(outcome: PlayedOutcome, member: MemberId): boolean {
    return outcome.operations.some(({ kind, member: of }) => kind === 'create' && of === member);
  }

  #memberAt(index: number): MemberId {
    const members = this.installation.knot.members;
    return (members[index % members.length] as { id: MemberId }).id;
  }

  /** The record of that number in a member: the one that has its key now, or the one that somebody would make. */
  #recordOf({ member: at, record }: { readonly member: number; readonly record: number }) {
    const member = this.#memberAt(at);
    const known = [...(this.installation.records.get(member)?.values() ?? [])].find(
      ({ fields }) => fields.key === `k${record}`,
    );
    return { member, key: (known?.key ?? `${member}${record}`) as string };
  }

  #anchorOf(member: MemberId, key: string) {
    return [...this.installation.anchors.values()].find(({ ties }) =>
      ties.some((tie) => tie.member === member && tie.key === key && !tie.gone),
    );
  }
}

/** *Levels*: nothing stands under itself, in words. */
function circlesIn({ knot, anchors }: PlayedInstallation): readonly string[] {
  const field = knot.fields.find(({ levels }) => levels);
  if (!field) return [];
  const above = (thing: Shared | undefined): Shared | undefined =>
    typeof thing === 'string' ? anchors.get(anchorId(thing))?.agreed[field.id]?.value : undefined;
  return [...anchors.keys()].flatMap((thing) => {
    let at = above(thing);
    for (let steps = 0; typeof at === 'string' && at !== thing && steps < anchors.size; steps += 1) at = above(at);
    return at === thing ? [`${thing} stands under itself`] : [];
  });
}
