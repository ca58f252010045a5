import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { takeUntilDestroyed, toSignal } from '@angular/core/rxjs-interop';
import { MatDialog } from '@angular/material/dialog';
import { NavigationEnd, Router, RouterLink, RouterLinkActive, RouterOutlet } from '@angular/router';
import { catchError, filter, fromEvent, map, merge, of, startWith, switchMap, throttleTime } from 'rxjs';
import { Api } from '../api/api';
import { LiveEvents } from '../api/liveEvents';
import { SessionService } from '../api/session';
import { CommandSearch } from './commandSearch';
import { isTyping, Shortcuts, viewKeys } from './shortcuts';
import { Theme } from './theme';

const chordMs = 1200;

/** The frame: views at the left, the chosen one beside them, and the keys that work everywhere. */
@Component({
  selector: 'ak-root',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RouterLinkActive, RouterOutlet],
  templateUrl: './app.html',
  styleUrl: './app.scss',
})
export class App {
  protected readonly session = inject(SessionService);
  protected readonly theme = inject(Theme);
  readonly #api = inject(Api);
  readonly #live = inject(LiveEvents);
  readonly #router = inject(Router);
  readonly #dialog = inject(MatDialog);
  protected readonly views = Object.values(viewKeys);
  readonly #chord = signal(0);
  /** Open decisions, counted again whenever a run has ended or another view is opened. */
  protected readonly waiting = toSignal(
    merge(
      this.#router.events.pipe(filter((event) => event instanceof NavigationEnd)),
      fromEvent(window, 'anchor-knot-decided'),
    ).pipe(
      startWith(undefined),
      filter(() => this.session.person() !== undefined),
      switchMap(() =>
        merge(of(undefined), this.#live.ends).pipe(throttleTime(500, undefined, { leading: true, trailing: true })),
      ),
      switchMap(() =>
        this.#api.decisions({}).pipe(
          map(({ total }) => total),
          catchError(() => of(undefined)),
        ),
      ),
    ),
  );

  constructor() {
    fromEvent<KeyboardEvent>(document, 'keydown')
      .pipe(takeUntilDestroyed())
      .subscribe((event) => this.#key(event));
  }

  protected skip(event: Event): void {
    event.preventDefault();
    document.getElementById('main')?.focus();
  }

  protected keys(): void {
    this.#dialog.open(Shortcuts);
  }

  protected signOut(): void {
    this.session
      .signOut()
      .subscribe({ complete: () => void this.#router.navigateByUrl('/sign-in'), error: () => this.session.forget() });
  }

  #key(event: KeyboardEvent): void {
    if (!this.session.person()) return;
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
      event.preventDefault();
      if (this.#dialog.openDialogs.length === 0)
        this.#dialog.open(CommandSearch, { position: { top: '90px' }, autoFocus: 'input' });
      return;
    }
    if (isTyping(event) || this.#dialog.openDialogs.length > 0) return;
    if (event.key === '?') this.keys();
    else if (event.key === 'g') this.#chord.set(Date.now());
    else if (viewKeys[event.key] && Date.now() - this.#chord() < chordMs) {
      this.#chord.set(0);
      void this.#router.navigateByUrl(viewKeys[event.key]?.path ?? '/');
    }
  }
}
