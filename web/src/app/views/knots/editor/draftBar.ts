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
  template: `
    @if (editor.problem() ?? asking.problem(); as problem) {
      <div class="banner" role="alert"><b>{{ problem.says }}</b> {{ problem.advice }}
        @for (one of problem.problems ?? []; track $index) { <small><span class="value">{{ one.at }}</span> {{ one.says }}</small> }
        @if (problem.code === 'changed meanwhile') { <button mat-button type="button" (click)="editor.takeTheirs()">Take the draft as it is now</button><button mat-button type="button" (click)="editor.keepMine()">Keep mine instead</button> } @else if (editor.saving() === 'not saved') { <button mat-button type="button" (click)="editor.saveAgain()">Try to save again</button> }
      </div>
    }
    @if (editor.hasDraft() && editor.mayEdit()) {
      <div class="bar" role="status">
        <span><b>Draft</b>@if (editor.draft()?.changedAt; as at) { by {{ editor.draft()?.changedBy }}, <span [title]="at | exactTime">{{ at | ago }}</span>} · {{ editor.saving() === 'saved' ? 'saved' : editor.saving() === 'saving' ? 'saving…' : 'not saved' }}@if (behind()) { · <span class="waits">begun from version {{ editor.draft()?.basedOn }}, and version {{ knot().version }} is in force</span> }</span>
        <span class="acts">
          <button mat-button type="button" [disabled]="!editor.canUndo()" (click)="editor.undo()">Undo</button>
          <button mat-button type="button" [disabled]="!editor.canRedo()" (click)="editor.redo()">Redo</button>
          @if (givingUp()) { <span>{{ knot().version === 0 ? 'The whole knot goes.' : 'All edits go.' }}</span> <button mat-button type="button" (click)="discard()">Give it up</button><button mat-button type="button" (click)="givingUp.set(false)">Keep it</button> } @else { <button mat-button type="button" (click)="givingUp.set(true)">Give up…</button> }
          <input maxlength="1000" class="words" placeholder="What was changed, and why" aria-label="Note" #note />
          <button mat-flat-button type="button" [disabled]="stops() > 0 || asking.busy() || editor.saving() !== 'saved'" [title]="stops() > 0 ? plural(stops(), 'problem') + ' to mend first' : ''" (click)="putInForce(note.value)">Put in force</button>
        </span>
      </div>
    }
  `,
  styles: `.bar { display: flex; flex-wrap: wrap; gap: 4px 16px; align-items: center; padding: 6px 22px; border-bottom: 1px solid var(--hair-2); background: var(--sheet); font-size: 13.5px; } .acts { margin-left: auto; display: flex; gap: 6px; align-items: center; } input { width: 210px; }`,
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
    this.asking.ask(this.#api.putInForce(this.knot().id, { definition, basedOn: this.knot().version, draft: this.editor.revision, note }), (waits) => {
      const version = `Version ${this.knot().version + 1}`;
      this.#snack.open(waits ? `${version} is put in force when the run that is under way has ended.` : `${version} is in force. The next run works by it.`, 'Close');
      this.editor.open(this.knot().id);
      this.changed.emit();
    });
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
