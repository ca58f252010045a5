import { booleanAttribute, ChangeDetectionStrategy, Component, input } from '@angular/core';
import type { Problem } from '@anchor-knot/contracts';

const mostShown = 40;

/** What went wrong with something that a person asked for, and what to do: nothing, as long as nothing did. */
@Component({
  selector: 'ak-problem',
  changeDetection: ChangeDetectionStrategy.OnPush,
  templateUrl: './problem.html',
  styleUrl: './problem.scss',
})
export class ProblemText {
  readonly of = input.required<Problem | undefined>();
  /** Across the view, with each of several problems; acts may stand in it. Otherwise a line where it was asked. */
  readonly banner = input(false, { transform: booleanAttribute });
  /** A banner within a form, which has margins of its own. */
  readonly inForm = input(false, { transform: booleanAttribute });
  readonly pad = input(false, { transform: booleanAttribute });
  readonly small = input(false, { transform: booleanAttribute });
  protected readonly mostShown = mostShown;
}
