import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { RouterLink, RouterLinkActive } from '@angular/router';

/** What belongs to a knot's identity: its rules, the duplicates that they found, and what people said. */
@Component({
  selector: 'ak-identity-tabs',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RouterLinkActive],
  template: `
    <nav aria-label="Identity">
      <a [routerLink]="['/knots', knot(), 'identity']" routerLinkActive="on" ariaCurrentWhenActive="page">Rules and evidence</a>
      <a [routerLink]="['/knots', knot(), 'duplicates']" routerLinkActive="on" ariaCurrentWhenActive="page">Duplicates</a>
      <a [routerLink]="['/knots', knot(), 'verdicts']" routerLinkActive="on" ariaCurrentWhenActive="page">Verdicts</a>
    </nav>
  `,
  styles: `nav { display: flex; gap: 18px; padding: 10px 22px 8px; font-size: 13.5px; } a { text-decoration: none; color: var(--ink-2); } a.on { color: var(--ink); font-weight: 650; }`,
})
export class IdentityTabs {
  readonly knot = input.required<string>();
}
