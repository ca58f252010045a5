import {
  afterNextRender,
  ChangeDetectionStrategy,
  Component,
  DestroyRef,
  effect,
  ElementRef,
  inject,
  signal,
  viewChild,
} from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { json, jsonParseLinter } from '@codemirror/lang-json';
import { linter, lintGutter } from '@codemirror/lint';
import { EditorState } from '@codemirror/state';
import { EditorView } from '@codemirror/view';
import { describeIssues, type KnotDefinition, knotDraftSchema } from '@anchor-knot/contracts';
import { basicSetup } from 'codemirror';
import { WithSide } from '../../layout/withSide';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { Downloads } from '../../telling/downloads';

interface Found {
  readonly at: string;
  readonly says: string;
}

/** The whole definition as JSON: the draft in another form. */
@Component({
  selector: 'ak-knot-definition',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [WithSide, MatButtonModule, GoLive],
  templateUrl: './knotDefinition.html',
  styleUrl: './knotDefinition.scss',
})
export class KnotDefinitionJson {
  protected readonly knotEditor = inject(KnotEditor);
  readonly #downloads = inject(Downloads);
  private readonly host = viewChild.required<ElementRef<HTMLElement>>('editor');
  protected readonly problems = signal<readonly Found[]>([]);
  #view: EditorView | undefined;
  /** What the text and the draft agree on; another draft comes from an edit elsewhere, or from undo. */
  #known: KnotDefinition | undefined;

  constructor() {
    afterNextRender(() => this.#open());
    inject(DestroyRef).onDestroy(() => this.#view?.destroy());
    effect(() => {
      const definition = this.knotEditor.definition();
      if (!this.#view || !definition || definition === this.#known) return;
      this.#known = definition;
      this.#view.dispatch({
        changes: { from: 0, to: this.#view.state.doc.length, insert: JSON.stringify(definition, null, 2) },
      });
    });
  }

  #open(): void {
    const theme = EditorView.theme({
      '&': { height: '100%', backgroundColor: 'var(--sheet)', color: 'var(--ink)' },
      // One colour for all: the marks of the editor's own palette are too pale in the dark.
      '.cm-content span': { color: 'inherit !important' },
      '.cm-content': { fontFamily: 'var(--values)', caretColor: 'var(--ink)' },
      '.cm-gutters': { backgroundColor: 'var(--paper)', color: 'var(--ink-3)', border: '0' },
      '.cm-activeLine, .cm-activeLineGutter': { backgroundColor: 'var(--petrol-tint)' },
      '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
        backgroundColor: 'var(--petrol-tint) !important',
      },
    });
    this.#view = new EditorView({
      parent: this.host().nativeElement,
      state: EditorState.create({
        doc: JSON.stringify((this.#known = this.knotEditor.definition()), null, 2) ?? '',
        extensions: [
          basicSetup,
          json(),
          linter(jsonParseLinter()),
          lintGutter(),
          theme,
          EditorState.readOnly.of(!this.knotEditor.mayEdit()),
          EditorView.contentAttributes.of({ 'aria-label': 'Definition as JSON', tabindex: '0' }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) this.#take(update.state.doc.toString());
          }),
        ],
      }),
    });
  }

  /** Takes what is typed into the draft, if it is a definition. */
  #take(text: string): void {
    const parsed = parse(text);
    if (!parsed.ok) {
      this.problems.set([{ at: 'JSON', says: parsed.says }]);
      return;
    }
    const read = knotDraftSchema.safeParse(parsed.value);
    const id = this.knotEditor.definition()?.id;
    if (!read.success) this.problems.set(describeIssues(read.error));
    else if (read.data.id !== id)
      this.problems.set([{ at: 'id', says: `the id of this knot is “${id}” and cannot be changed` }]);
    else {
      this.problems.set([]);
      if (JSON.stringify(read.data) === JSON.stringify(this.#known)) return;
      this.#known = read.data;
      this.knotEditor.edit(() => read.data, 'JSON');
    }
  }

  protected download(): void {
    const definition = this.knotEditor.definition();
    if (definition)
      this.#downloads.save(
        `${definition.id}.knot.json`,
        'application/json',
        JSON.stringify({ format: 'anchor-knot', formatVersion: 1, knot: definition }, null, 2),
      );
  }
}

function parse(text: string): { ok: true; value: unknown } | { ok: false; says: string } {
  try {
    return { ok: true, value: JSON.parse(text) as unknown };
  } catch (error) {
    return { ok: false, says: error instanceof Error ? error.message : 'cannot be read' };
  }
}
