import PgBoss from 'pg-boss';
import type { DataSource } from 'typeorm';

export interface RunJob {
  readonly knot: string;
  readonly kind: 'run' | 'dry run';
  readonly startedBy: string;
  readonly full: boolean;
  readonly overGuards: boolean;
}

/** To read all records of an object once. */
export interface ProfileJob {
  readonly system: string;
  readonly object: string;
}

export const runQueue = 'run-knot';
const profileQueue = 'profile-object';
export const jobChannel = 'anchor_knot_job';
export const runChannel = 'anchor_knot_run';

/** The queue of runs, in PostgreSQL: for each knot one active and one gathered run, whichever process works on it. */
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

  /** @returns the id of the run to come, or `undefined` when one is waiting already that will do the same */
  async send(job: RunJob): Promise<string | undefined> {
    const id = await this.#boss.send(runQueue, { ...job }, { singletonKey: job.knot });
    if (id === null) return undefined;
    await this.#data.query('select pg_notify($1, $2)', [jobChannel, id]);
    return id;
  }

  async fetch(): Promise<{ id: string; data: RunJob } | undefined> {
    return (await this.#boss.fetch<RunJob>(runQueue, { batchSize: 1 }))[0];
  }

  async complete(id: string): Promise<void> {
    await this.#boss.complete(runQueue, id);
  }

  /** Waiting runs that no worker has taken yet. */
  async waiting(): Promise<{ id: string; data: RunJob; createdOn: Date }[]> {
    return (await this.#data.query(
      `select id, data, created_on as "createdOn" from pgboss.job where name = $1 and state = 'created'
        order by created_on`,
      [runQueue],
    )) as {
      id: string;
      data: RunJob;
      createdOn: Date;
    }[];
  }

  /** @returns false when a profile of this object is waiting already */
  async sendProfile(job: ProfileJob): Promise<boolean> {
    const id = await this.#boss.send(profileQueue, { ...job }, { singletonKey: `${job.system}/${job.object}` });
    if (id !== null) await this.#data.query('select pg_notify($1, $2)', [jobChannel, id]);
    return id !== null;
  }

  async fetchProfile(): Promise<{ id: string; data: ProfileJob } | undefined> {
    return (await this.#boss.fetch<ProfileJob>(profileQueue, { batchSize: 1 }))[0];
  }

  async completeProfile(id: string): Promise<void> {
    await this.#boss.complete(profileQueue, id);
  }

  /** A run that was asked for, whether it waits or a worker has just taken it. */
  async find(id: string): Promise<{ id: string; data: RunJob; createdOn: Date } | undefined> {
    return (await this.#boss.getJobById<RunJob>(runQueue, id)) ?? undefined;
  }

  /**
   * Jobs whose worker died: taken a while ago, and no run of theirs holds a lease. Each is ended, and sent anew if its
   * run did not end.
   */
  async takeUpOrphans(graceSeconds: number): Promise<number> {
    const orphans = (await this.#data.query(
      `select j.id, j.data, r.ended_at is not null as ended from pgboss.job j left join run r on r.id = j.id
       where j.name = $1 and j.state = 'active' and j.started_on < now() - make_interval(secs => $2) and (r.id is null
         or r.ended_at is not null or r.lease_until < now())`,
      [runQueue, graceSeconds],
    )) as { id: string; data: RunJob; ended: boolean }[];
    for (const { id, data, ended } of orphans) {
      await this.#boss.complete(runQueue, id);
      if (!ended) await this.send({ ...data, startedBy: data.startedBy });
    }
    return orphans.length;
  }

  async close(): Promise<void> {
    await this.#boss.stop({ graceful: false, wait: true });
  }
}
