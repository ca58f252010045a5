import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import { type Section, Sections } from '../../../layout/sections';

/** What belongs to a knot's identity: its rules, the duplicates that they found, and what people said. */
@Component({
  selector: 'ak-identity-tabs',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Sections],
  templateUrl: './identityTabs.html',
})
export class IdentityTabs {
  readonly knot = input.required<string>();
  protected readonly sections = computed((): readonly Section[] => [
    { name: 'Rules and evidence', link: ['/knots', this.knot(), 'identity'] },
    { name: 'Duplicates', link: ['/knots', this.knot(), 'duplicates'] },
    { name: 'Verdicts', link: ['/knots', this.knot(), 'verdicts'] },
  ]);
}
