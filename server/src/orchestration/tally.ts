import type { CompiledKnot, Instant, MemberId } from '@anchor-knot/core';
import { type PlanEntry } from './stored.js';
import {
  emptyAccount,
  type MemberAccount,
  type MemberTallies,
  type MemberTally,
  type RunPhase,
  type RunProgress,
} from './runResult.js';

type Mutable<T> = { -readonly [Name in keyof T]: T[Name] };

/** Counts of a run, per member, and how far it has come. */
export class Tally {
  phase: RunProgress['phase'] = 'reading';
  done = 0;
  total: number | undefined;
  readonly #members = new Map<MemberId, Mutable<MemberTally>>();

  /** When each phase began. */
  readonly #begun: { readonly phase: RunPhase; readonly at: Instant }[] = [];
  readonly #now: () => Instant;

  constructor(knot: CompiledKnot, now: () => Instant) {
    this.#now = now;
    for (const { id } of knot.members)
      this.#members.set(id, {
        read: 0,
        create: 0,
        update: 0,
        archive: 0,
        delete: 0,
        'write back': 0,
        leftAlone: 0,
        held: 0,
        rejected: 0,
        waiting: 0,
        accounts: emptyAccount,
        written: 0,
        failed: 0,
      });
  }

  begin(phase: RunProgress['phase'], total?: number): void {
    this.phase = phase;
    this.#begun.push({ phase, at: this.#now() });
    this.done = 0;
    this.total = total;
  }

  add(member: MemberId, what: Exclude<keyof MemberTally, 'accounts'>, count = 1): void {
    const tally = this.#members.get(member);
    if (tally) tally[what] += count;
  }

  /** When each phase began, so far. */
  get phases(): readonly { readonly phase: RunPhase; readonly at: Instant }[] {
    return [...this.#begun];
  }

  /** Goes on where another worker stood. */
  takeUp(tallies: MemberTallies, phases: Tally['phases']): void {
    for (const [member, tally] of Object.entries(tallies)) this.#members.set(member, { ...tally });
    this.#begun.push(...phases);
    this.phase = phases.at(-1)?.phase ?? this.phase;
  }

  /** Adds what another worker counted of the run. */
  addAll(tallies: MemberTallies): void {
    for (const [member, tally] of Object.entries(tallies))
      for (const [what, count] of Object.entries(tally))
        if (typeof count === 'number') this.add(member, what as Exclude<keyof MemberTally, 'accounts'>, count);
  }

  of(member: MemberId): MemberTally {
    return this.#members.get(member) as MemberTally;
  }

  /** Counts what a plan would do. `sign` is -1 when an entry is planned again. */
  addPlan(entry: PlanEntry, sign: 1 | -1 = 1): void {
    for (const { kind, member } of entry.operations) this.add(member, kind, sign);
    const heldFields = entry.held.length > 0;
    for (const tie of entry.after.ties) {
      if (tie.rejected) this.add(tie.member, 'rejected', sign);
      else if (heldFields && !tie.gone) this.add(tie.member, 'held', sign);
    }
  }

  /** What is neither created, updated, held, rejected nor waiting is left alone. `ties` are those after matching. */
  countLeftAlone(ties: ReadonlyMap<MemberId, number>, updatedButHeld: Readonly<Record<MemberId, number>>): void {
    for (const [member, tally] of this.#members) {
      const touched =
        tally.archive + tally.delete + tally.update + tally.held - (updatedButHeld[member] ?? 0) + tally.rejected;
      tally.leftAlone = Math.max(0, (ties.get(member) ?? 0) - touched);
    }
  }

  /** What became of the writes, by whichever workers. */
  setWrites(counts: ReadonlyMap<MemberId, Pick<MemberTally, 'written' | 'failed'>>): void {
    for (const [member, tally] of this.#members) Object.assign(tally, counts.get(member) ?? { written: 0, failed: 0 });
  }

  /** How the records of each member stand. */
  setAccounts(accounts: ReadonlyMap<MemberId, MemberAccount>): void {
    for (const [member, tally] of this.#members) tally.accounts = accounts.get(member) ?? emptyAccount;
  }

  /** Each phase until the next one began, or until now. */
  get #steps(): NonNullable<RunProgress['steps']> {
    return this.#begun.flatMap(({ phase, at }, place) =>
      phase === 'done' ? [] : [{ phase, ms: Math.max(0, (this.#begun[place + 1]?.at ?? this.#now()) - at) }],
    );
  }

  get tallies(): MemberTallies {
    return Object.fromEntries([...this.#members].map(([id, tally]) => [id, { ...tally }]));
  }

  snapshot(): RunProgress {
    return { phase: this.phase, done: this.done, total: this.total, steps: this.#steps, tally: this.tallies };
  }
}
