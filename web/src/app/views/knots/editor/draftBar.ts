import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { Router } from '@angular/router';
import type { KnotView } from '@anchor-knot/contracts';
import { Api } from '../../../api/api';
import { Asking } from '../../../api/asking';
import { isTyping } from '../../../shell/shortcuts';
import { plural } from '../../../words/sentences';
import { AgoPipe, ExactTimePipe } from '../../../words/times';
import { KnotEditor } from './knotEditor';

/** How the draft stands: kept or not, undone and redone, given up, put in force. */
@Component({
  selector: 'ak-draft-bar',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, AgoPipe, ExactTimePipe],
  host: { '(document:keydown)': 'keys($event)' },
  templateUrl: './draftBar.html',
  styleUrl: './draftBar.scss',
})
export class DraftBar {
  readonly knot = input.required<KnotView>();
  readonly changed = output();
  protected readonly editor = inject(KnotEditor);
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  readonly #snack = inject(MatSnackBar);
  protected readonly plural = plural;
  protected readonly asking = new Asking();
  protected readonly givingUp = signal(false);
  protected readonly stops = computed(() => this.editor.findings().filter(({ kind }) => kind === 'stops').length);
  protected readonly behind = computed(() => this.editor.draft()?.basedOn !== this.knot().version);

  protected putInForce(note: string): void {
    const definition = this.editor.definition();
    if (!definition) return;
    this.asking.ask(
      this.#api.putInForce(this.knot().id, {
        definition,
        basedOn: this.knot().version,
        draft: this.editor.revision,
        note,
      }),
      (waits) => {
        const version = `Version ${this.knot().version + 1}`;
        this.#snack.open(
          waits
            ? `${version} is put in force when the run that is under way has ended.`
            : `${version} is in force. The next run works by it.`,
          'Close',
        );
        this.editor.open(this.knot().id);
        this.changed.emit();
      },
    );
  }
  protected discard(): void {
    this.givingUp.set(false);
    this.asking.ask(this.#api.discardDraft(this.knot().id), () => {
      if (this.knot().version === 0) void this.#router.navigateByUrl('/knots');
      else this.editor.open(this.knot().id);
    });
  }
  protected keys(event: KeyboardEvent): void {
    // Within a text, undo means the text.
    const inText = (event.target as HTMLElement | null)?.closest('input, textarea, .cm-editor');
    if ((event.ctrlKey || event.metaKey) && !inText && (event.key === 'z' || event.key === 'y' || event.key === 'Z')) {
      event.preventDefault();
      if (event.key === 'z') this.editor.undo();
      else this.editor.redo();
    } else if (event.key === 'u' && !isTyping(event)) this.editor.undo();
  }
}
