import { DOCUMENT } from '@angular/common';
import { effect, inject, Injectable, signal } from '@angular/core';

const storageKey = 'anchor-knot-theme';

/** Light or dark: as the system says until the person chooses. */
@Injectable({ providedIn: 'root' })
export class Theme {
  readonly #document = inject(DOCUMENT);
  readonly dark = signal(
    localStorage.getItem(storageKey) === 'dark' ||
      (localStorage.getItem(storageKey) === null && matchMedia('(prefers-color-scheme: dark)').matches),
  );

  constructor() {
    effect(() => this.#document.documentElement.classList.toggle('dark', this.dark()));
  }

  toggle(): void {
    this.dark.update((dark) => !dark);
    localStorage.setItem(storageKey, this.dark() ? 'dark' : 'light');
  }
}
