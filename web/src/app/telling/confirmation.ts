import { ChangeDetectionStrategy, Component, inject } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MAT_DIALOG_DATA, MatDialogModule } from '@angular/material/dialog';

export interface ConfirmationText {
  readonly title: string;
  /** What follows from it. */
  readonly says: string;
  /** The button that does it. */
  readonly action: string;
}

/** Asks back before something that cannot be undone. */
@Component({
  selector: 'ak-confirmation',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, MatDialogModule],
  templateUrl: './confirmation.html',
})
export class Confirmation {
  protected readonly text = inject<ConfirmationText>(MAT_DIALOG_DATA);
}
