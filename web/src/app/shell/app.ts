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
  template: `
    @if (session.person(); as person) {
      <div class="frame">
        <a class="skip" href="#main" (click)="skip($event)">Skip to the content</a>
        <nav aria-label="Views">
          <a class="brand" routerLink="/watch">
            <svg width="30" height="30" viewBox="0 0 30 30" fill="none" stroke="var(--petrol)" stroke-width="3.2" stroke-linecap="round" aria-hidden="true"><path d="M6 24C6 13 24 17 24 6" /><path d="M24 24C24 13 6 17 6 6" stroke="var(--paper)" stroke-width="7" /><path d="M24 24C24 13 6 17 6 6" /></svg>
            Anchor<br />Knot
          </a>
          @for (view of views; track view.path) {
            <a [routerLink]="view.path" routerLinkActive="on" ariaCurrentWhenActive="page">{{ view.name }}@if (view.path === '/decisions' && (waiting() ?? 0) > 0) {<b [attr.aria-label]="waiting() + ' wait'">{{ waiting() }}</b>}</a>
          }
          <div class="who">
            <span>{{ person.name }}</span><span class="quiet">{{ person.role }}</span>
            <button type="button" (click)="theme.toggle()">{{ theme.dark() ? 'Light' : 'Dark' }}</button>
            <button type="button" (click)="keys()">Keys</button>
            <button type="button" (click)="signOut()">Sign out</button>
          </div>
        </nav>
        <main id="main" tabindex="-1"><router-outlet /></main>
      </div>
    } @else {
      <main id="main"><router-outlet /></main>
    }
  `,
  styles: `
    :host { display: block; height: 100%; }
    .frame { display: grid; grid-template-columns: 124px minmax(0, 1fr); height: 100%; }
    nav { padding: 14px 0 12px 18px; border-right: 1px solid var(--hair); display: flex; flex-direction: column; overflow: auto; }
    .brand { font-weight: 750; font-size: 15px; line-height: 17px; margin-bottom: 18px; color: var(--ink); } .brand svg { display: block; margin-bottom: 6px; }
    nav a { display: flex; gap: 7px; align-items: baseline; color: var(--ink-2); text-decoration: none; padding: 5px 0; position: relative; font-size: 14.5px; }
    nav a.brand { display: block; padding: 0; }
    nav a.on { color: var(--ink); font-weight: 650; } nav a.on::before { content: ''; position: absolute; left: -18px; top: 8px; width: 9px; height: 14px; border: 3px solid var(--petrol); border-left: 0; border-radius: 0 8px 8px 0; }
    nav b { font: 600 12px/16px var(--values); color: var(--brass); }
    .who { margin-top: auto; padding-top: 16px; font-size: 12.5px; line-height: 17px; display: flex; flex-direction: column; align-items: flex-start; gap: 1px; }
    .who button { border: 0; background: none; padding: 3px 0; min-height: 24px; color: var(--petrol); font-size: 12.5px; cursor: pointer; text-decoration: underline; text-underline-offset: 2px; } .who .quiet { margin-bottom: 5px; }
    main { min-width: 0; height: 100%; overflow: hidden; outline: none; }
    .skip { position: absolute; left: -999px; } .skip:focus { left: 4px; top: 4px; z-index: 10; background: var(--sheet); padding: 6px 10px; }
    @media (max-width: 1100px) { main { overflow: auto; } }
  `,
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
    merge(this.#router.events.pipe(filter((event) => event instanceof NavigationEnd)), fromEvent(window, 'anchor-knot-decided')).pipe(
      startWith(undefined),
      filter(() => this.session.person() !== undefined),
      switchMap(() => merge(of(undefined), this.#live.ends).pipe(throttleTime(500, undefined, { leading: true, trailing: true }))),
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
    this.session.signOut().subscribe({ complete: () => void this.#router.navigateByUrl('/sign-in'), error: () => this.session.forget() });
  }

  #key(event: KeyboardEvent): void {
    if (!this.session.person()) return;
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === 'k') {
      event.preventDefault();
      if (this.#dialog.openDialogs.length === 0) this.#dialog.open(CommandSearch, { position: { top: '90px' }, autoFocus: 'input' });
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
