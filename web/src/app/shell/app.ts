import { ChangeDetectionStrategy, Component, inject, type Signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatDialog } from '@angular/material/dialog';
import { NavigationEnd, Router, RouterLink, RouterLinkActive, RouterOutlet } from '@angular/router';
import { catchError, filter, map, merge, type Observable, of, startWith, switchMap, throttleTime, timer } from 'rxjs';
import { passingKinds } from '@anchor-knot/contracts';
import { DecisionsApi } from '../api/decisionsApi';
import { LiveEvents } from '../api/liveEvents';
import { NoticesApi } from '../api/noticesApi';
import { SessionService } from '../api/session';
import { Keys } from '../keys/keys';
import { CommandSearch } from './commandSearch';
import { Shortcuts } from './shortcuts';
import { Theme } from './theme';
import { viewKeys } from './viewKeys';

const noticeMs = 15_000;

/** The frame: views at the left, the chosen one beside them, and the keys that work everywhere. */
@Component({
  selector: 'ak-root',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, RouterLinkActive, RouterOutlet],
  templateUrl: './app.html',
  styleUrl: './app.scss',
})
export class App {
  protected readonly session = inject(SessionService);
  protected readonly theme = inject(Theme);
  readonly #api = inject(DecisionsApi);
  readonly #notices = inject(NoticesApi);
  readonly #live = inject(LiveEvents);
  readonly #router = inject(Router);
  readonly #dialog = inject(MatDialog);
  protected readonly views = viewKeys;
  /** Open decisions, but for those that go by themselves. */
  protected readonly waiting = this.#counted(this.#live.decided, () =>
    this.#api
      .decisions({})
      .pipe(map(({ kinds }) => kinds.reduce((sum, { kind, count }) => sum + (passingKinds.has(kind) ? 0 : count), 0))),
  );
  /** Notices that the person has not seen. They come without a run, too. */
  protected readonly unread = this.#counted(merge(this.#notices.seen, timer(noticeMs, noticeMs)), () =>
    this.#notices.unread(),
  );

  constructor() {
    inject(Keys).register([
      { key: 'ctrl+k', says: 'search everything', act: () => this.#search() },
      ...viewKeys.map(({ key, path, name }) => ({
        key: `g ${key}`,
        says: `go to ${name}`,
        act: () => void this.#router.navigateByUrl(path),
      })),
      { key: '?', says: 'this list', act: () => this.keys() },
    ]);
  }

  /** A number that is asked for again whenever a run has ended, another view is opened, or something tells to. */
  #counted(again: Observable<unknown>, ask: () => Observable<number>): Signal<number | undefined> {
    const moved = this.#router.events.pipe(filter((event) => event instanceof NavigationEnd));
    return toSignal(
      merge(moved, again).pipe(
        startWith(undefined),
        filter(() => this.session.person() !== undefined),
        switchMap(() =>
          merge(of(undefined), this.#live.ends).pipe(throttleTime(500, undefined, { leading: true, trailing: true })),
        ),
        switchMap(() => ask().pipe(catchError(() => of(undefined)))),
      ),
    );
  }

  protected skip(event: Event): void {
    event.preventDefault();
    document.getElementById('main')?.focus();
  }

  protected keys(): void {
    if (this.session.person()) this.#dialog.open(Shortcuts);
  }

  protected signOut(): void {
    this.session
      .signOut()
      .subscribe({ complete: () => void this.#router.navigateByUrl('/sign-in'), error: () => this.session.forget() });
  }

  #search(): boolean {
    if (!this.session.person()) return false;
    this.#dialog.open(CommandSearch, { position: { top: '90px' }, autoFocus: 'input' });
    return true;
  }
}
