import { type Signal } from '@angular/core';
import { toObservable } from '@angular/core/rxjs-interop';
import { filter, type Observable, switchMap, takeWhile, timer } from 'rxjs';

/** How often a profile that is under way is asked for. */
const pollMs = 700;
/** Right after it was asked for, the answer may still be of the time before. */
const graceMs = 2000;

/**
 * Emits while a profile is under way: from the moment that it was asked for until `isOn` says that it is done.
 * Call in an injection context.
 * @param askedAt when a person last asked for one, in milliseconds since 1970; 0 when nobody did
 */
export function whileProfiling(askedAt: Signal<number>, isOn: () => boolean): Observable<unknown> {
  return toObservable(askedAt).pipe(
    filter((at) => at > 0),
    switchMap((at) => timer(300, pollMs).pipe(takeWhile(() => Date.now() - at < graceMs || isOn(), true))),
  );
}
