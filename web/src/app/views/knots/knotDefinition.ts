import { afterNextRender, ChangeDetectionStrategy, Component, computed, DestroyRef, ElementRef, inject, input, output, signal, viewChild } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import { json, jsonParseLinter } from '@codemirror/lang-json';
import { linter, lintGutter } from '@codemirror/lint';
import { EditorState } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import type { KnotView } from '@anchor-knot/contracts';
import { basicSetup } from 'codemirror';
import { catchError, debounceTime, of, Subject, switchMap } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { SessionService } from '../../api/session';

interface Found {
  readonly at: string;
  readonly says: string;
}

/** The whole definition as JSON, checked while it is edited, put in force as a new version. */
@Component({
  selector: 'ak-knot-definition',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  template: `
    <div class="two">
      <div class="editor" #editor></div>
      <aside aria-live="polite">
        <h2>Version {{ knot().version }} in force</h2>
        <p class="small">{{ session.may('editor') ? 'Edit here; nothing changes until you put it in force. The next run reads everything again under the new version.' : 'Your role may read the definition, not change it.' }}</p>
        @if (problems().length > 0) {
          <h2 class="wrong">What keeps it from going into force</h2>
          <ul>@for (problem of problems(); track $index) {<li><span class="value">{{ problem.at }}</span><small>{{ problem.says }}</small></li>}</ul>
        } @else if (edited()) { <p class="good">Nothing is wrong with it.</p> }
        @if (session.may('editor')) {
          <label>Note <input #note maxlength="1000" placeholder="What was changed, and why" /></label>
          <p><button mat-flat-button type="button" [disabled]="!edited() || problems().length > 0 || busy()" (click)="save(note.value)">Put in force</button> <button mat-button type="button" [disabled]="!edited()" (click)="reset()">Undo all</button></p>
        }
        <p><button mat-button type="button" (click)="download()">Download as a knot file</button></p>
      </aside>
    </div>
  `,
  styles: `
    :host { display: block; height: 100%; } .two { display: grid; grid-template-columns: minmax(0, 1fr) 286px; height: 100%; } .editor { overflow: auto; background: var(--sheet); font-size: 13px; } aside { border-left: 1px solid var(--hair); padding: 12px 16px; overflow: auto; }
    input { width: 100%; font: inherit; color: inherit; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 5px 7px; margin: 3px 0 10px; } label { font-size: 12.5px; color: var(--ink-2); }
    ul { list-style: none; padding: 0; } li { padding: 6px 0; border-top: 1px solid var(--hair-2); } li small { display: block; }
  `,
})
export class KnotDefinition {
  readonly knot = input.required<KnotView>();
  readonly changed = output();
  protected readonly session = inject(SessionService);
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  private readonly host = viewChild.required<ElementRef<HTMLElement>>('editor');
  readonly #texts = new Subject<string>();
  readonly #text = signal('');
  protected readonly problems = signal<readonly Found[]>([]);
  protected readonly busy = signal(false);
  readonly #original = computed(() => JSON.stringify(this.knot().definition, null, 2));
  protected readonly edited = computed(() => this.#text() !== '' && this.#text() !== this.#original());
  #view: EditorView | undefined;

  constructor() {
    afterNextRender(() => this.#open());
    inject(DestroyRef).onDestroy(() => this.#view?.destroy());
    this.#texts
      .pipe(
        debounceTime(350),
        switchMap((text) => {
          const parsed = parse(text);
          return parsed.ok
            ? this.#api.checkDefinition(this.knot().id, parsed.value).pipe(catchError((error: unknown) => of([{ at: 'the server', says: problemOf(error).says }])))
            : of([{ at: 'JSON', says: parsed.says }]);
        }),
        takeUntilDestroyed(),
      )
      .subscribe((found) => this.problems.set(found));
  }

  #open(): void {
    const theme = EditorView.theme({
      '&': { height: '100%', backgroundColor: 'var(--sheet)', color: 'var(--ink)' },
      // One colour for all: the marks of the editor's own palette are too pale in the dark.
      '.cm-content span': { color: 'inherit !important' },
      '.cm-content': { fontFamily: 'var(--values)', caretColor: 'var(--ink)' },
      '.cm-gutters': { backgroundColor: 'var(--paper)', color: 'var(--ink-3)', border: '0' },
      '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--petrol-tint)' },
      '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': { backgroundColor: 'var(--petrol-tint) !important' },
    });
    this.#view = new EditorView({
      parent: this.host().nativeElement,
      state: EditorState.create({
        doc: this.#original(),
        extensions: [
          basicSetup,
          json(),
          linter(jsonParseLinter()),
          lintGutter(),
          theme,
          EditorState.readOnly.of(!this.session.may('editor')),
          EditorView.contentAttributes.of({ 'aria-label': 'Definition as JSON', tabindex: '0' }),
          EditorView.updateListener.of((update) => {
            if (!update.docChanged) return;
            this.#text.set(update.state.doc.toString());
            this.#texts.next(this.#text());
          }),
        ],
      }),
    });
  }

  protected reset(): void {
    this.#view?.dispatch({ changes: { from: 0, to: this.#view.state.doc.length, insert: this.#original() } });
  }

  protected save(note: string): void {
    const parsed = parse(this.#text());
    if (!parsed.ok) return;
    this.busy.set(true);
    this.#api.changeDefinition(this.knot().id, parsed.value, this.knot().version, note).subscribe({
      next: () => {
        this.busy.set(false);
        this.#text.set('');
        this.changed.emit();
        this.#snack.open(`Version ${this.knot().version + 1} is in force. The next run works by it.`, 'Close');
      },
      error: (error: unknown) => {
        this.busy.set(false);
        const problem = problemOf(error);
        this.problems.set(problem.problems ?? [{ at: 'this version', says: `${problem.says} ${problem.advice ?? ''}` }]);
      },
    });
  }

  protected download(): void {
    const file = { format: 'anchor-knot', formatVersion: 1, knot: this.knot().definition };
    const link = document.createElement('a');
    link.href = URL.createObjectURL(new Blob([JSON.stringify(file, null, 2)], { type: 'application/json' }));
    link.download = `${this.knot().id}.knot.json`;
    link.click();
    URL.revokeObjectURL(link.href);
  }
}

function parse(text: string): { ok: true; value: unknown } | { ok: false; says: string } {
  try {
    return { ok: true, value: JSON.parse(text) as unknown };
  } catch (error) {
    return { ok: false, says: error instanceof Error ? error.message : 'cannot be read' };
  }
}
