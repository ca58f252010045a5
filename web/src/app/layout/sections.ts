import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import { MatTabsModule } from '@angular/material/tabs';
import { RouterLink, RouterLinkActive } from '@angular/router';

/** One section of a view, at an address of its own. */
export interface Section {
  readonly name: string;
  /** As the router takes it. */
  readonly link: readonly string[];
  /** Whether what is shown is a page within it. */
  readonly isWithin?: boolean;
}

/** The sections of a view as tabs above it: arrows go between them, each is an address. */
@Component({
  selector: 'ak-sections',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatTabsModule, RouterLink, RouterLinkActive],
  templateUrl: './sections.html',
  styleUrl: './sections.scss',
  host: { '[class.within]': 'isWithin()' },
})
export class Sections {
  readonly of = input.required<readonly Section[]>();
  readonly name = input('Sections');
  /** Whether they are parts of a section, below its own tab. */
  readonly isWithin = input(false);
}
