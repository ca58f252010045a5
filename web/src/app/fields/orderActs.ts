import { booleanAttribute, ChangeDetectionStrategy, Component, input, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';

/** What is done with one of a list that has an order: it goes up or down by one, or away. */
@Component({
  selector: 'ak-order-acts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  templateUrl: './orderActs.html',
  styleUrl: './orderActs.scss',
})
export class OrderActs {
  /** What it is called to who does not see where it stands. */
  readonly name = input.required<string>();
  readonly isFirst = input(false, { transform: booleanAttribute });
  readonly isLast = input(false, { transform: booleanAttribute });
  readonly mayGo = input(true);
  /** The words on the three buttons. */
  readonly words = input<readonly [up: string, down: string, away: string]>(['up', 'down', 'remove']);
  /** The last one's before the name: `Remove` *Phone*. */
  readonly goes = input('Remove');
  readonly moved = output<-1 | 1>();
  readonly gone = output();
}
