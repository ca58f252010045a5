import type { MigrationInterface, QueryRunner } from 'typeorm';

/** What systems allow us: consents, how many calls, and what they tell us by themselves. */
export class SystemAccess1764200000000 implements MigrationInterface {
  async up(runner: QueryRunner): Promise<void> {
    await runner.query(`
      /* The tokens of a consent are kept encrypted, like the credential. */
      alter table system add tokens bytea, add consent_by text, add consent_at timestamptz, add consent_scope text;
      /* A consent that was begun, until the person comes back. Of its state only a digest is kept. */
      create table consent_begun (
        state_digest text primary key, system_id text not null references system on delete cascade,
          person text not null,
        verifier bytea not null, callback text not null, expires_at timestamptz not null
      );
      /* One row per system, so that whichever worker calls, it takes from the same. Days are days of UTC. */
      create table call_budget (system_id text primary key references system on delete cascade, day date not null,
        used int not null, free_at timestamptz not null, rest_until timestamptz not null);
      /* Whoever holds a slot may have a call under way; one whose holder died is free when its time is over. */
      create table call_slot (system_id text not null references system on delete cascade, slot int not null,
        held_until timestamptz not null default '-infinity', primary key (system_id, slot));
      create table webhook_subscription (
        id uuid primary key, system_id text not null references system on delete cascade, object text not null,
          address text not null, secret bytea not null, remote_id text,
        state text not null, words text, made_at timestamptz not null default now(), checked_at timestamptz,
          put_right int not null default 0,
        received bigint not null default 0, refused bigint not null default 0, last_at timestamptz, unique (system_id,
          object)
      );
      create table webhook_delivery (
        subscription_id uuid not null references webhook_subscription on delete cascade, delivery_id text not null,
          received_at timestamptz not null default now(), body text not null,
        primary key (subscription_id, delivery_id)
      );
      create index on webhook_delivery (subscription_id, received_at desc);
    `);
  }

  async down(runner: QueryRunner): Promise<void> {
    await runner.query(
      `drop table webhook_delivery, webhook_subscription, call_slot, call_budget, consent_begun; alter table system
        drop tokens, drop consent_by, drop consent_at, drop consent_scope`,
    );
  }
}
