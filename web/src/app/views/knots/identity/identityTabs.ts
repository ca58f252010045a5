import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { RouterLink, RouterLinkActive } from '@angular/router';

/** What belongs to a knot's identity: its rules, the duplicates that they found, and what people said. */
@Component({
  selector: 'ak-identity-tabs',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink, RouterLinkActive],
  templateUrl: './identityTabs.html',
  styleUrl: './identityTabs.scss',
})
export class IdentityTabs {
  readonly knot = input.required<string>();
}
