import type { Instant, MemberId } from '@anchor-knot/core';
import { type Clock, type Connector, type Page, SystemTrouble } from '@anchor-knot/connectors';
import type { CallCount, CallCounts, CallKind } from './runResult.js';

/** What a run asks of systems: how often, how long it takes, and what of it fails. */
export class CallLog {
  readonly #clock: Clock;
  readonly #members = new Map<MemberId, Map<CallKind, CallCount>>();

  constructor(clock: Clock) {
    this.#clock = clock;
  }

  /** The same connector, whose calls are counted from now on. */
  measured(member: MemberId, connector: Connector): Connector {
    const timed =
      <Given extends unknown[], Answer>(kind: CallKind, call: (...given: Given) => Promise<Answer>) =>
      (...given: Given): Promise<Answer> =>
        this.#time(member, kind, () => call(...given));
    return {
      get capabilities() {
        return connector.capabilities;
      },
      read: (options) => this.#pages(member, connector.read(options)),
      readOne: timed('record', (key) => connector.readOne(key)),
      ...(connector.readUnder ? { readUnder: timed('record', connector.readUnder.bind(connector)) } : {}),
      search: timed('search', (field, value) => connector.search(field, value)),
      write: timed('write', (requests) => connector.write(requests)),
      describe: () => connector.describe(),
      ...(connector.rights ? { rights: connector.rights.bind(connector) } : {}),
      ...(connector.createField ? { createField: connector.createField.bind(connector) } : {}),
      clockOffset: () => connector.clockOffset(),
      close: () => connector.close(),
    };
  }

  async *#pages(member: MemberId, pages: AsyncIterable<Page>): AsyncGenerator<Page> {
    const iterator = pages[Symbol.asyncIterator]();
    try {
      for (;;) {
        const next = await this.#time(
          member,
          'page',
          () => iterator.next(),
          ({ done }) => done !== true,
        );
        if (next.done) return;
        yield next.value;
      }
    } finally {
      await iterator.return?.();
    }
  }

  /** @param counts whether the answer is one that a call gave */
  async #time<Answer>(
    member: MemberId,
    kind: CallKind,
    call: () => Promise<Answer>,
    counts: (answer: Answer) => boolean = () => true,
  ): Promise<Answer> {
    const began = this.#clock.now();
    try {
      const answer = await call();
      if (counts(answer)) this.#note(member, kind, began, 0);
      return answer;
    } catch (error) {
      this.#note(member, kind, began, error instanceof SystemTrouble ? 1 : 0);
      throw error;
    }
  }

  #note(member: MemberId, kind: CallKind, began: Instant, failed: number): void {
    const took = Math.max(0, this.#clock.now() - began);
    this.#add(member, kind, { count: 1, failed, ms: took, longestMs: took });
  }

  #add(member: MemberId, kind: CallKind, calls: CallCount): void {
    const kinds = this.#members.get(member) ?? new Map<CallKind, CallCount>();
    this.#members.set(member, kinds);
    const known = kinds.get(kind) ?? { count: 0, failed: 0, ms: 0, longestMs: 0 };
    kinds.set(kind, {
      count: known.count + calls.count,
      failed: known.failed + calls.failed,
      ms: known.ms + calls.ms,
      longestMs: Math.max(known.longestMs, calls.longestMs),
    });
  }

  /** Adds the calls that another worker made for the run. */
  addAll(counts: CallCounts): void {
    for (const [member, kinds] of Object.entries(counts))
      for (const [kind, calls] of Object.entries(kinds)) this.#add(member, kind as CallKind, calls);
  }

  snapshot(): CallCounts {
    return Object.fromEntries([...this.#members].map(([member, kinds]) => [member, Object.fromEntries(kinds)]));
  }
}
