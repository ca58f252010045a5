import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { Pennant as PennantSettings } from '@anchor-knot/contracts';

let serial = 0;

/** The flag of a system: swallow-tailed, two-tone, told apart by shape as well as colour. */
@Component({
  selector: 'ak-pennant',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <svg width="26" height="16" viewBox="0 0 26 16" aria-hidden="true" [style.color]="'var(--' + settings().colour + ')'">
      <clipPath [attr.id]="clip"><path d="M0.5 0.5H25.5L20 8L25.5 15.5H0.5Z" /></clipPath>
      <g [attr.clip-path]="'url(#' + clip + ')'">
        <rect width="26" height="16" fill="var(--flag)" />
        @switch (settings().pattern) {
          @case ('halves') { <rect width="26" height="8" fill="currentColor" /> }
          @case ('quarters') { <path d="M0 0H12V8H0ZM12 8H26V16H12Z" fill="currentColor" /> }
          @case ('bars') { <path d="M0 0H26V4H0ZM0 8H26V12H0Z" fill="currentColor" /> }
          @case ('saltire') { <path d="M0 0L26 16M26 0L0 16" stroke="currentColor" stroke-width="4.5" fill="none" /> }
          @case ('disc') { <circle cx="9.5" cy="8" r="4.8" fill="currentColor" /> }
          @case ('border') { <path d="M0 0H26V16H0Z M4.5 4V12H15.5V4Z" fill="currentColor" fill-rule="evenodd" /> }
          @case ('chevron') { <path d="M0 0L12 8L0 16Z" fill="currentColor" /> }
          @case ('chequer') { <path d="M0 0H6V5.3H0ZM12 0H18V5.3H12ZM6 5.3H12V10.6H6ZM18 5.3H24V10.6H18ZM0 10.6H6V16H0ZM12 10.6H18V16H12Z" fill="currentColor" /> }
        }
      </g>
      <path d="M0.5 0.5H25.5L20 8L25.5 15.5H0.5Z" fill="none" stroke="var(--ink)" />
    </svg>
    @if (name()) { <span [class.hidden]="!shown()">{{ label() }}</span> }
  `,
  styles: `:host { display: inline-flex; align-items: center; gap: 7px; vertical-align: -3px; white-space: var(--name-wraps, nowrap); max-width: 100%; } svg { flex: none; } span { overflow: hidden; text-overflow: ellipsis; }`,
})
export class Pennant {
  readonly settings = input.required<PennantSettings>();
  readonly name = input('');
  /** Whether the name stands beside the flag, or is only read out. */
  readonly shown = input(false);
  /** The two letters instead of the name, where there is little room. */
  readonly short = input(false);
  protected readonly label = computed(() => (this.short() ? this.settings().letters : this.name()));
  protected readonly clip = `pennant-${(serial += 1)}`;
}
