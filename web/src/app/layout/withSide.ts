import { BreakpointObserver } from '@angular/cdk/layout';
import { ChangeDetectionStrategy, Component, effect, inject, input, linkedSignal } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatSidenavModule } from '@angular/material/sidenav';
import { map } from 'rxjs';
import { Keys } from '../keys/keys';

/** Below this width the panel does not stand beside the work any more. */
const narrow = '(max-width: 1199px)';

/**
 * The work, and beside it a panel of what belongs to it. Where there is no room for both, the panel is a drawer that a
 * button opens; it never lies over the work by itself.
 */
@Component({
  selector: 'ak-with-side',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatSidenavModule],
  templateUrl: './withSide.html',
  styleUrl: './withSide.scss',
})
export class WithSide {
  /** What the panel is called. */
  readonly label = input.required<string>();
  /** The button that opens the drawer. */
  readonly says = input.required<string>();
  /** How many things in it want to be looked at. */
  readonly count = input(0);
  /** In pixels. */
  readonly width = input(286);
  /** Something in the panel that was asked for, as by its id: a drawer opens when another one is. */
  readonly wanted = input('');
  protected readonly isNarrow = toSignal(
    inject(BreakpointObserver)
      .observe(narrow)
      .pipe(map(({ matches }) => matches)),
    { requireSync: true },
  );
  protected readonly isOpen = linkedSignal<boolean, boolean>({
    source: this.isNarrow,
    computation: () => false,
  });

  constructor() {
    effect(() => {
      if (this.wanted() !== '') this.isOpen.set(true);
    });
    // Wherever the focus is: a drawer that the address opened has not taken it.
    inject(Keys).register([{ key: 'Escape', says: 'close the panel', act: () => this.#close() }]);
  }
  #close(): boolean {
    const isClosed = this.isNarrow() && this.isOpen();
    if (isClosed) this.isOpen.set(false);
    return isClosed;
  }
}
