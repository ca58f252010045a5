import { ChangeDetectionStrategy, Component, input } from '@angular/core';

/** Stands in for the editor of formulas, which needs a real browser. */
@Component({
  selector: 'ak-formula-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: '{{ formula() }}',
})
export class PlainFormula {
  readonly formula = input.required<string>();
  readonly names = input<unknown>();
  readonly label = input('');
  readonly hint = input('');
  readonly wanted = input<string>();
  readonly mayEdit = input(true);
}

/** Stands in for what keeps a knot from going live. */
@Component({ selector: 'ak-go-live', changeDetection: ChangeDetectionStrategy.OnPush, template: '' })
export class NoGoLive {}

/** Stands in for a chart, which needs a canvas. */
@Component({
  selector: 'ak-written-chart',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: '{{ says() }}',
})
export class NoChart {
  readonly bars = input<unknown>();
  readonly of = input<unknown>();
  readonly says = input('');
}
