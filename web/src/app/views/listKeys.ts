import { Directive, ElementRef, inject } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { fromEvent } from 'rxjs';
import { isTyping } from '../shell/shortcuts';

/** `j` and `k` move through the links of a list; Enter opens, as it does anyway. */
@Directive({ selector: '[akListKeys]' })
export class ListKeys {
  readonly #list = inject<ElementRef<HTMLElement>>(ElementRef);

  constructor() {
    fromEvent<KeyboardEvent>(document, 'keydown')
      .pipe(takeUntilDestroyed())
      .subscribe((event) => {
        if (isTyping(event) || (event.key !== 'j' && event.key !== 'k')) return;
        const links = [
          ...this.#list.nativeElement.querySelectorAll<HTMLElement>(
            'tbody tr td:first-child a, tbody tr th:first-child a, [data-item]',
          ),
        ];
        const at = links.findIndex((link) => link === document.activeElement || link.contains(document.activeElement));
        const next = at < 0 ? 0 : Math.min(links.length - 1, Math.max(0, at + (event.key === 'j' ? 1 : -1)));
        links[next]?.focus();
        links[next]?.scrollIntoView({ block: 'nearest' });
      });
  }
}
