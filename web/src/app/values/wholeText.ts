import { FocusMonitor } from '@angular/cdk/a11y';
import { afterNextRender, DestroyRef, Directive, ElementRef, inject } from '@angular/core';
import { MatTooltip } from '@angular/material/tooltip';

/** Longer texts are looked at where they are kept. */
const longest = 2000;

/**
 * A text that may be cut by its cell is shown whole while the pointer is over it, or while the keyboard is at what
 * holds it: a cell, a link, a button.
 */
@Directive({
  selector: '[akWhole]',
  hostDirectives: [MatTooltip],
  host: { '(mouseenter)': 'show()', '(mouseleave)': 'hide()' },
})
export class WholeText {
  readonly #element = inject<ElementRef<HTMLElement>>(ElementRef).nativeElement;
  readonly #tooltip = inject(MatTooltip);

  constructor() {
    this.#tooltip.tooltipClass = 'whole-text';
    const focus = inject(FocusMonitor);
    const destroyed = inject(DestroyRef);
    afterNextRender(() => {
      const holder = this.#element.closest<HTMLElement>('a, button, td[tabindex], [role=row]');
      if (!holder) return;
      const watching = focus
        .monitor(holder, true)
        .subscribe((origin) => (origin === 'keyboard' ? this.show(0) : origin === null && this.hide()));
      destroyed.onDestroy(() => watching.unsubscribe());
    });
  }

  protected show(delayMs?: number): void {
    const parts = [this.#element, ...Array.from(this.#element.querySelectorAll('*'))];
    const isCut = parts.some(
      ({ scrollWidth, clientWidth, scrollHeight, clientHeight }) =>
        // What is written along a line has no box of its own.
        clientWidth > 0 && (scrollWidth > clientWidth + 1 || scrollHeight > clientHeight + 1),
    );
    this.#tooltip.message = isCut ? this.#element.innerText.trim().slice(0, longest) : '';
    if (isCut) this.#tooltip.show(delayMs);
  }

  protected hide(): void {
    this.#tooltip.hide();
  }
}
