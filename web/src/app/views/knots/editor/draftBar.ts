import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { Router } from '@angular/router';
import type { KnotView } from '@anchor-knot/contracts';
import { MatTooltip } from '@angular/material/tooltip';
import { KnotsApi } from '../../../api/knotsApi';
import { Asking } from '../../../api/asking';
import { Keys } from '../../../keys/keys';
import { Telling } from '../../../telling/telling';
import { plural } from '../../../words/sentences';
import { KnotEditor } from './knotEditor';
import { ProblemText } from '../../problem';
import { AgoTime } from '../../../words/agoTime';

/** How the draft stands: kept or not, undone and redone, given up, put in force. */
@Component({
  selector: 'ak-draft-bar',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, MatButtonModule, MatFormFieldModule, MatInputModule, ReactiveFormsModule, AgoTime, MatTooltip],
  templateUrl: './draftBar.html',
  styleUrl: './draftBar.scss',
})
export class DraftBar {
  readonly knot = input.required<KnotView>();
  readonly changed = output();
  protected readonly editor = inject(KnotEditor);
  readonly #api = inject(KnotsApi);
  readonly #router = inject(Router);
  readonly #telling = inject(Telling);
  protected readonly plural = plural;
  protected readonly asking = new Asking();
  protected readonly givingUp = signal(false);
  /** Why the next version is made. */
  protected readonly note = new FormControl('', { nonNullable: true });
  protected readonly stops = computed(() => this.editor.findings().filter(({ kind }) => kind === 'stops').length);
  protected readonly behind = computed(() => this.editor.draft()?.basedOn !== this.knot().version);

  constructor() {
    const undo = (): void => this.editor.undo();
    const redo = (): void => this.editor.redo();
    inject(Keys).register([
      { key: 'u', says: 'take the last edit of the draft back', act: undo },
      {
        key: 'ctrl+z',
        says: 'take the last edit of the draft back',
        act: (event) => (isInText(event) ? false : undo()),
      },
      { key: 'ctrl+y', says: 'do it again', act: (event) => (isInText(event) ? false : redo()) },
      { key: 'ctrl+shift+z', says: 'do it again', act: (event) => (isInText(event) ? false : redo()) },
    ]);
  }

  protected putInForce(): void {
    const definition = this.editor.definition();
    if (!definition) return;
    this.asking.ask(
      this.#api.putInForce(this.knot().id, {
        definition,
        basedOn: this.knot().version,
        draft: this.editor.revision,
        note: this.note.value,
      }),
      (waits) => {
        const version = `Version ${this.knot().version + 1}`;
        this.#telling.say(
          waits
            ? `${version} is put in force when the run that is under way has ended.`
            : `${version} is in force. The next run works by it.`,
        );
        this.note.reset();
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
}

/** Within a text, undo means the text. */
function isInText(event: KeyboardEvent): boolean {
  return event.target instanceof Element && event.target.closest('input, textarea, .cm-editor') !== null;
}
