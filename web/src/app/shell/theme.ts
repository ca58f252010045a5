import { BreakpointObserver } from '@angular/cdk/layout';
import { computed, DOCUMENT, effect, inject, Injectable, signal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { map } from 'rxjs';

const storageKey = 'anchor-knot-theme';

/** Light or dark: as the system says, also when it changes, until the person chooses. */
@Injectable({ providedIn: 'root' })
export class Theme {
  readonly #document = inject(DOCUMENT);
  readonly #chosen = signal(localStorage.getItem(storageKey));
  readonly #isSystemDark = toSignal(
    inject(BreakpointObserver)
      .observe('(prefers-color-scheme: dark)')
      .pipe(map(({ matches }) => matches)),
    { requireSync: true },
  );
  readonly dark = computed(() => (this.#chosen() === null ? this.#isSystemDark() : this.#chosen() === 'dark'));

  constructor() {
    effect(() => this.#document.documentElement.classList.toggle('dark', this.dark()));
  }

  toggle(): void {
    const chosen = this.dark() ? 'light' : 'dark';
    localStorage.setItem(storageKey, chosen);
    this.#chosen.set(chosen);
  }
}
