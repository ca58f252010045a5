import {
  haveRuns,
  joinWaitingRun,
  offerAgain,
  orphanedRuns,
  queueSql,
  tellWorkers,
  touchJob,
  type RunJob,
  type WaitingRun,
  waitingRuns,
} from '../persistence/tables/queue.js';
import { rankOf } from '../persistence/tables/timings.js';
import PgBoss from 'pg-boss';
import type { DataSource } from 'typeorm';
import type { SqlConnection } from '../persistence/sql.js';

export type { RunJob } from '../persistence/tables/queue.js';

/** Names of records as a job has them. */
export function keysByMember(
  records: readonly { readonly member: string; readonly key: string }[],
): Record<string, string[]> {
  const byMember: Record<string, string[]> = {};
  for (const { member, key } of records) (byMember[member] ??= []).push(key);
  return byMember;
}

/** To read all records of an object once. */
export interface ProfileJob {
  readonly system: string;
  readonly object: string;
  /** So many records from the first on; all when left out. */
  readonly first?: number | undefined;
}

/** For each knot one run and one dry run are active, and one of each waits. */
const keyOf = ({ knot, kind }: RunJob): string => `${knot}/${kind}`;

/** What is greater is taken first. */
const priorities = { first: 1, among: 0, last: -1 } as const;

export const runQueue = 'run-knot';
const profileQueue = 'profile-object';

/** The queue of runs, in PostgreSQL: runs of a knot that are asked for meanwhile are gathered into one. */
export class RunQueue {
  readonly #boss: PgBoss;
  readonly #data: DataSource;

  private constructor(boss: PgBoss, data: DataSource) {
    this.#boss = boss;
    this.#data = data;
  }

  static async open(url: string, data: DataSource): Promise<RunQueue> {
    const boss = new PgBoss({ connectionString: url, max: 2, application_name: 'anchor-knot-queue' });
    boss.on('error', () => undefined);
    await boss.start();
    // A run may take hours; dead workers are noticed by their lease, not by this limit.
    await boss.createQueue(runQueue, { name: runQueue, policy: 'stately', expireInSeconds: 23 * 3600, retryLimit: 0 });
    await boss.createQueue(profileQueue, {
      name: profileQueue,
      policy: 'stately',
      expireInSeconds: 23 * 3600,
      retryLimit: 0,
    });
    return new RunQueue(boss, data);
  }

  /**
   * Asks for a run. One that waits already takes up what this one wants beyond it; a dry run is never a run.
   * @param db where it is to be sent with something else or not at all: the transaction
   * @returns the id of the run to come
   */
  async send(job: RunJob, db: SqlConnection = this.#data): Promise<string> {
    const priority = priorities[await rankOf(db, job.knot)];
    for (;;) {
      const options = { singletonKey: keyOf(job), priority, db: queueSql(db) };
      const id = await this.#boss.send(runQueue, { ...job }, options);
      const waiting = id ?? (await joinWaitingRun(db, runQueue, keyOf(job), job));
      // The one that waited may have been taken just now: then this one waits in its place.
      if (waiting === undefined) continue;
      await tellWorkers(db, waiting);
      return waiting;
    }
  }

  /** A run that waits for another one of its knot is not forgotten: its worker is at it still. */
  async keepWaiting(id: string): Promise<void> {
    await touchJob(this.#data, id);
  }

  /** Whether one of some knots runs, or is to run. */
  async haveRuns(knots: readonly string[]): Promise<boolean> {
    return haveRuns(this.#data, runQueue, knots);
  }

  async fetch(): Promise<{ id: string; data: RunJob } | undefined> {
    return (await this.#boss.fetch<RunJob>(runQueue, { batchSize: 1 }))[0];
  }

  /** @param sentAs the run that was sent in its place, where there is one */
  async complete(id: string, sentAs?: string): Promise<void> {
    await this.#boss.complete(runQueue, id, sentAs === undefined ? {} : { sentAs });
  }

  /** Waiting runs that no worker has taken yet. */
  async waiting(): Promise<readonly WaitingRun[]> {
    return waitingRuns(this.#data, runQueue);
  }

  /** @returns false when a profile of this object is waiting already */
  async sendProfile(job: ProfileJob): Promise<boolean> {
    const id = await this.#boss.send(profileQueue, { ...job }, { singletonKey: `${job.system}/${job.object}` });
    if (id !== null) await tellWorkers(this.#data, id);
    return id !== null;
  }

  async fetchProfile(): Promise<{ id: string; data: ProfileJob } | undefined> {
    return (await this.#boss.fetch<ProfileJob>(profileQueue, { batchSize: 1 }))[0];
  }

  async completeProfile(id: string): Promise<void> {
    await this.#boss.complete(profileQueue, id);
  }

  /**
   * A run that was asked for, whether it waits or a worker has just taken it; or the one that was sent in its place.
   */
  async find(id: string): Promise<{ id: string; data: RunJob; createdOn: Date } | undefined> {
    const job = (await this.#boss.getJobById<RunJob>(runQueue, id)) ?? undefined;
    const { sentAs } = (job?.output ?? {}) as { sentAs?: string };
    return sentAs === undefined ? job : this.find(sentAs);
  }

  /**
   * Jobs whose worker died: taken a while ago, and no run of theirs holds a lease. One that can go on where it stood is
   * taken again; any other is ended, and sent anew if its run did not end.
   */
  async takeUpOrphans(graceSeconds: number): Promise<number> {
    const orphans = await orphanedRuns(this.#data, runQueue, graceSeconds);
    for (const { id, data, ended, resumes } of orphans) {
      if (resumes) {
        await offerAgain(this.#data, id);
        await tellWorkers(this.#data, id);
        continue;
      }
      // Who follows the old one finds the new one.
      const sentAs = ended ? undefined : await this.send(data);
      await this.#boss.complete(runQueue, id, sentAs === undefined ? {} : { sentAs });
    }
    return orphans.length;
  }

  async close(): Promise<void> {
    await this.#boss.stop({ graceful: false, wait: true });
  }
}
