import { ChangeDetectionStrategy, Component, input, output } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';

/** A button that lets the person choose a file. */
@Component({
  selector: 'ak-file-button',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  templateUrl: './fileButton.html',
  // What is hidden within stays where the button is, also where that is scrolled out of sight.
  styles: ':host { position: relative; display: inline-block; }',
})
export class FileButton {
  readonly says = input.required<string>();
  /** File endings and media types, as HTML's `accept` has them. */
  readonly accepts = input.required<string>();
  readonly chosen = output<File>();

  protected take(picker: HTMLInputElement): void {
    const [file] = picker.files ?? [];
    // The same file can be chosen again after it was corrected.
    picker.value = '';
    if (file) this.chosen.emit(file);
  }
}
