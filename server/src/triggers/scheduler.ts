import { DateTime } from 'luxon';
import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import type { Clock } from '@anchor-knot/connectors';
import { rowKeysOf, type CalledScope } from '@anchor-knot/contracts';
import {
  type CompiledMember,
  type Knot,
  passedSlots,
  quietUntil,
  scheduleFor,
  type SlotPurpose,
  type Timing,
} from '@anchor-knot/core';
import type { Knots, LoadedKnot } from '../knots/knots.js';
import type { SqlConnection } from '../persistence/sql.js';
import { membersTold } from '../persistence/tables/knots.js';
import {
  addMissed,
  type DueSlot,
  hasSucceeded,
  moveDueSlot,
  noteSeen,
  resumeKnots,
  takeDueSlot,
} from '../persistence/tables/timings.js';
import { postponeRetry, takeDueRetry } from '../persistence/tables/retries.js';
import { cursorsOf } from '../persistence/tables/runs.js';
import { knotStates } from '../persistence/tables/versions.js';
import { workingSubscriptions } from '../persistence/tables/webhooks.js';
import type { Systems } from '../systems/systems.js';
import { keysByMember, type RunJob, type RunQueue } from '../worker/jobs.js';
import { isAllRead } from './freshness.js';
import { knotsLeftBehind, releasedKnots, toBeCounted } from './releases.js';
import { askingMs, isByHandOnly, purposeOf, purposeText, type Timings } from './timings.js';

/** A slot that nobody looked at for so long was missed. */
const graceMs = 120_000;
/** So many slots are looked at in one go; then other work has its turn. */
const mostAtOnce = 100;

type Started = Pick<RunJob, 'cause' | 'members' | 'full'> & Partial<Pick<RunJob, 'records'>>;

/**
 * Starts the runs that are due, and those of which systems tell. Any number of workers may look after the same table:
 * each slot is taken by one of them, in one transaction with the run that it starts.
 */
export class Scheduler {
  readonly #data: DataSource;
  readonly #knots: Knots;
  readonly #timings: Timings;
  readonly #queue: RunQueue;
  readonly #systems: Pick<Systems, 'look'>;

  constructor(data: DataSource, knots: Knots, timings: Timings, queue: RunQueue, systems: Pick<Systems, 'look'>) {
    this.#data = data;
    this.#knots = knots;
    this.#timings = timings;
    this.#queue = queue;
    this.#systems = systems;
  }

  /** Starts what is due by now. @returns how many slots were due */
  async startDue(clock: Pick<Clock, 'now'>): Promise<number> {
    await resumeKnots(this.#data, new Date(clock.now()));
    for (let count = 0; count < mostAtOnce; count += 1) {
      const isTaken = await this.#data.transaction(async (db) => {
        const slot = await takeDueSlot(db, new Date(clock.now()));
        if (slot) await this.#settle(db, slot, clock.now());
        return slot !== undefined || (await this.#tryAgain(db, new Date(clock.now())));
      });
      if (!isTaken) return count;
    }
    return mostAtOnce;
  }

  /** Tries again what a run could not do, unless the knot runs by hand only. @returns false where nothing is due */
  async #tryAgain(db: SqlConnection, now: Date): Promise<boolean> {
    const retry = await takeDueRetry(db, now);
    if (!retry) return false;
    const { timing } = await this.#timings.of(retry.knot, db);
    const quietEnd = quietUntil(timing, now.getTime());
    if (quietEnd !== undefined) await postponeRetry(db, retry.knot, new Date(quietEnd));
    else if (!isByHandOnly(timing) && (await this.#mayStart(db, retry.knot)))
      await this.#start(db, retry.knot, { cause: 'retry', members: retry.members, full: false });
    return true;
  }

  /**
   * A system told that something happened to an object: the knots that listen to it read what changed there. In quiet
   * hours nothing starts: when they are over, it is asked for what it told meanwhile.
   * @param key of the record that it told of, where that alone is to be read
   * @param db the transaction in which what was told is kept
   * @returns the ids of the runs that were started, or joined
   */
  async startTold(
    db: SqlConnection,
    system: string,
    object: string,
    key: string | undefined,
    now: number,
  ): Promise<readonly string[]> {
    const runs: string[] = [];
    for (const { knot, member, isRows } of await membersTold(db, system, object)) {
      const { timing } = await this.#timings.of(knot, db);
      if (timing.triggers[member]?.kind !== 'events') continue;
      const quietEnd = quietUntil(timing, now);
      if (quietEnd !== undefined) await moveDueSlot(db, knot, purposeText({ ask: member }), new Date(quietEnd));
      if (quietEnd !== undefined || !(await this.#mayStart(db, knot))) continue;
      const scope =
        key === undefined
          ? { members: [member] }
          : { members: [], records: { [member]: [isRows ? rowKeysOf(key) : key] } };
      runs.push(await this.#start(db, knot, { cause: 'event', ...scope, full: false }));
    }
    return runs;
  }

  /**
   * Another program asks for a run.
   * @returns the id of the run that was started, or joined; `undefined` where the knot does not run by itself now
   */
  async startCalled(db: SqlConnection, knot: string, called: CalledScope): Promise<string | undefined> {
    if (!(await this.#mayStart(db, knot))) return undefined;
    const { full, members, records = [] } = called;
    const asked = members ?? (records.length > 0 ? [] : null);
    return this.#start(db, knot, { cause: 'call', full, members: asked, records: keysByMember(records) });
  }

  /**
   * A run of a knot has ended: what waited, in whatever knot, for things of it that are there now is merged again, and
   * what is counted of its things is counted anew.
   * @param run the one that has ended; none where somebody has said what things are told as
   * @returns the ids of the runs that were started, or joined
   */
  async startReleased(knot: string, now: number, run?: string): Promise<readonly string[]> {
    const runs: string[] = [];
    const startWith = async (released: string, members: readonly string[]): Promise<void> => {
      if (await this.#rests(released, now)) return;
      runs.push(await this.#start(this.#data, released, { cause: 'release', members, full: false }));
    };
    const left = run === undefined ? [] : await knotsLeftBehind(this.#data, knot, run);
    for (const waiting of new Set([...(await releasedKnots(this.#data, knot)), ...left])) {
      // Nothing is created where nobody has looked whether it is there already.
      const { members = [] } = (await this.#knots.inForce(waiting))?.definition ?? {};
      await startWith(
        waiting,
        members.filter(({ may }) => may.create).map(({ id }) => id),
      );
    }
    const counting = run === undefined ? [] : await toBeCounted(this.#data, knot, run);
    for (const one of counting) await startWith(one.knot, [one.member]);
    return runs;
  }

  /** Whether a knot is not to be run now because of what happened in another one. */
  async #rests(knot: string, now: number): Promise<boolean> {
    const { timing } = await this.#timings.of(knot);
    const isQuiet = isByHandOnly(timing) || quietUntil(timing, now) !== undefined;
    return isQuiet || !(await this.#mayStart(this.#data, knot));
  }

  async #settle(db: SqlConnection, slot: DueSlot, now: number): Promise<void> {
    const { timing } = await this.#timings.of(slot.knot, db);
    const inForce = await this.#knots.inForce(slot.knot);
    const purpose = purposeOf(slot.purpose);
    if (typeof purpose === 'string') await this.#settleSchedule(db, slot, purpose, timing, inForce?.version, now);
    else await this.#settleAsking(db, slot, purpose.ask, timing, inForce, now);
  }

  async #settleSchedule(
    db: SqlConnection,
    { knot, purpose: text, dueAt }: DueSlot,
    purpose: SlotPurpose,
    timing: Timing,
    version: number | undefined,
    now: number,
  ): Promise<void> {
    const schedule = scheduleFor(timing, purpose);
    if (!schedule) return moveDueSlot(db, knot, text, undefined);
    const standing = (await knotStates(db)).get(knot);
    // What would have been due in a pause was not missed.
    const from = Math.max(dueAt.getTime(), standing?.state_at?.getTime() ?? 0);
    const { due, missed, missedSince, next } = passedSlots(schedule, timing, from, now, graceMs);
    await moveDueSlot(db, knot, text, next === undefined ? undefined : new Date(next));
    if (version === undefined || due === undefined || !(await this.#mayStart(db, knot))) return;
    if (missedSince !== undefined) {
      const words = missedWords(missed, missedSince, timing.zone);
      const since = new Date(missedSince);
      await addMissed(db, { run: uuid(), knot, version, since, now: new Date(now), words });
    }
    await this.#start(db, knot, { cause: 'schedule', members: null, full: purpose === 'everything' });
  }

  async #settleAsking(
    db: SqlConnection,
    slot: DueSlot,
    member: string,
    timing: Timing,
    inForce: LoadedKnot | undefined,
    now: number,
  ): Promise<void> {
    const { knot, purpose } = slot;
    const every = askingMs(timing, member);
    const asked = inForce?.compiled.members.find(({ id }) => id === member);
    const quietEnd = quietUntil(timing, now);
    const next = quietEnd ?? (every === undefined ? undefined : now + every);
    await moveDueSlot(db, knot, purpose, next === undefined ? undefined : new Date(next));
    if (quietEnd !== undefined || every === undefined || !asked || !(await this.#mayStart(db, knot))) return;
    const tells = timing.triggers[member]?.kind === 'events' && (await this.#isHeard(db, knot, asked));
    if (tells || !(await this.#canBeNew(db, slot, inForce?.version ?? 0, asked, now))) return;
    await this.#start(db, knot, { cause: 'asking', members: [member], full: false });
  }

  /**
   * Whether a member can have changed since a run was started for it: where a look costs little, as at a folder, it is
   * looked at before a run is begun. Under another version, or on another day for a filter that depends on it, what was
   * seen before does not count.
   */
  async #canBeNew(
    db: SqlConnection,
    slot: DueSlot,
    version: number,
    member: CompiledMember,
    now: number,
  ): Promise<boolean> {
    const look = await this.#systems.look(member);
    if (look === 'cannot be looked at') return true;
    if (look === 'being written') return false;
    const day = member.filterIsDated ? new Date(now).toISOString().slice(0, 10) : '';
    const seen = [version, day, look.seen].join(' ');
    if (seen === slot.seen) return false;
    await noteSeen(db, slot, seen);
    return true;
  }

  /**
   * Whether a member tells of its changes, and what it told last was read since: what came before the knot could run,
   * or whose run was lost, is asked for.
   */
  async #isHeard(db: SqlConnection, knot: string, { id, system, object }: Knot['members'][number]): Promise<boolean> {
    const hearings = await workingSubscriptions(db);
    const hearing = hearings.find((heard) => heard.system === system && heard.object === object);
    return hearing !== undefined && isAllRead(hearing, (await cursorsOf(db, knot)).get(id));
  }

  /** Nothing runs by itself while it is paused, nor before somebody has seen one run to its end. */
  async #mayStart(db: SqlConnection, knot: string): Promise<boolean> {
    return (await knotStates(db)).get(knot)?.state === 'running' && (await hasSucceeded(db, knot));
  }

  async #start(db: SqlConnection, knot: string, started: Started): Promise<string> {
    return this.#queue.send({ knot, kind: 'run', startedBy: '', overGuards: false, records: {}, ...started }, db);
  }
}

function missedWords(missed: number, since: number, zone: string): string {
  const when = DateTime.fromMillis(since, { zone }).toFormat('d LLLL yyyy, HH:mm');
  return missed === 1
    ? `The run of ${when} (${zone}) did not happen: no worker was there. One run makes up for it.`
    : `${missed} runs from ${when} (${zone}) on did not happen: no worker was there. One run makes up for them.`;
}
