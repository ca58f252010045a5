import { Injectable } from '@angular/core';
import { type DraftEvent, type Run, type ServerEvent, serverEventSchema } from '@anchor-knot/contracts';
import { filter, map, merge, Observable, retry, share, Subject, timer } from 'rxjs';

const reconnectMs = 3000;
/** A change of view must not close the connection only to open it again. */
const lingerMs = 2000;

/** Runs as they change and drafts as they are kept, pushed by the server. One connection for all views. */
@Injectable({ providedIn: 'root' })
export class LiveEvents {
  /** The person decided something here: what waits is counted again. */
  readonly decided = new Subject<void>();

  readonly #events = new Observable<MessageEvent<string> | 'opened'>((subscriber) => {
    const source = new EventSource('/api/events');
    source.onopen = () => subscriber.next('opened');
    source.onmessage = (event: MessageEvent<string>) => subscriber.next(event);
    // The browser connects again by itself after a broken connection, and gives up after an answer that is none.
    source.onerror = () => source.readyState === EventSource.CLOSED && subscriber.error(new Error('no events'));
    return () => source.close();
  }).pipe(retry({ delay: reconnectMs }), share({ resetOnRefCountZero: () => timer(lingerMs) }));

  readonly #said: Observable<ServerEvent> = this.#events.pipe(
    filter((event) => event !== 'opened'),
    map((event) => serverEventSchema.safeParse(JSON.parse(event.data))),
    filter((parsed) => parsed.success),
    map((parsed) => parsed.data),
  );

  readonly changes: Observable<Run> = this.#said.pipe(
    filter((event) => event.kind === 'run'),
    map(({ run }) => run),
  );

  readonly drafts: Observable<DraftEvent> = this.#said.pipe(filter((event) => event.kind === 'draft'));

  /**
   * The connection stands, for the first time or again: what happened before was not heard, so what is shown may be
   * old.
   */
  readonly opened: Observable<unknown> = this.#events.pipe(filter((event) => event === 'opened'));

  /** A run ended, or may have ended unheard. */
  readonly ends: Observable<unknown> = merge(this.opened, this.changes.pipe(filter(({ endedAt }) => endedAt !== null)));

  /** The run, or any run, changed, or may have changed unheard. */
  readonly anything: Observable<unknown> = merge(this.opened, this.changes);
}
