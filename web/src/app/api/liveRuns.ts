import { Injectable } from '@angular/core';
import { type Run, serverEventSchema } from '@anchor-knot/contracts';
import { filter, map, Observable, share } from 'rxjs';

/** Runs as they change, pushed by the server. One connection for all views; the browser opens it again when it breaks. */
@Injectable({ providedIn: 'root' })
export class LiveRuns {
  readonly changes: Observable<Run> = new Observable<MessageEvent<string>>((subscriber) => {
    const source = new EventSource('/api/events');
    source.onmessage = (event: MessageEvent<string>) => subscriber.next(event);
    return () => source.close();
  }).pipe(
    map((event) => serverEventSchema.safeParse(JSON.parse(event.data))),
    filter((parsed) => parsed.success),
    map((parsed) => parsed.data.run),
    share(),
  );
}
