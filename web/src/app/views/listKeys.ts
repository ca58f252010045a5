import { Directive, ElementRef, inject } from '@angular/core';
import { Keys } from '../keys/keys';

/** `j` and `k` move through the links of a list; Enter opens, as it does anyway. */
@Directive({ selector: '[akListKeys]' })
export class ListKeys {
  readonly #list = inject<ElementRef<HTMLElement>>(ElementRef);

  constructor() {
    inject(Keys).register([
      { key: 'j', says: 'next in the list', act: () => this.#step(1) },
      { key: 'k', says: 'previous in the list', act: () => this.#step(-1) },
    ]);
  }

  #step(by: number): void {
    const links = [
      ...this.#list.nativeElement.querySelectorAll<HTMLElement>(
        'tbody tr td:first-child a, tbody tr th:first-child a, [data-item]',
      ),
    ];
    const place = links.findIndex((link) => link === document.activeElement || link.contains(document.activeElement));
    const next = links[place < 0 ? 0 : Math.min(links.length - 1, Math.max(0, place + by))];
    next?.focus();
    next?.scrollIntoView({ block: 'nearest' });
  }
}
