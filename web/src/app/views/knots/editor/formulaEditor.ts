import {
  afterNextRender,
  ChangeDetectionStrategy,
  Component,
  computed,
  DestroyRef,
  effect,
  ElementRef,
  inject,
  input,
  output,
  signal,
  viewChild,
} from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import {
  autocompletion,
  type Completion,
  type CompletionContext,
  closeBrackets,
  completionKeymap,
  type CompletionResult,
} from '@codemirror/autocomplete';
import { defaultKeymap, history, historyKeymap } from '@codemirror/commands';
import { bracketMatching } from '@codemirror/language';
import { type Diagnostic, linter } from '@codemirror/lint';
import { Compartment, EditorState } from '@codemirror/state';
import { EditorView, keymap, placeholder } from '@codemirror/view';
import { firstValueFrom } from 'rxjs';
import { MatButtonModule } from '@angular/material/button';
import type { FieldType } from '@anchor-knot/core';
import { Fold } from '../../../fields/fold';
import { TextField } from '../../../fields/textField';
import type { FormulaVerdict, FunctionHelp } from './trialMessages';
import { TrialService } from './trialService';

/** A name that a formula may use. */
export interface FormulaName {
  /** As it is written in the formula: `company`, `record.status`. */
  readonly name: string;
  readonly says: string;
  /** Where it is known. */
  readonly type?: FieldType;
}

const lintAfterMs = 150;
const shortName = ({ signature }: FunctionHelp): string => signature.slice(0, signature.indexOf('('));
/** A name within a record needs the record only. */
const rootOf = ({ name }: FormulaName): string => /^[A-Za-z_][A-Za-z0-9_]*/.exec(name)?.[0] ?? name;

/**
 * Where a formula is written: names and functions are completed, what is wrong is marked at its place while it is
 * typed.
 */
@Component({
  selector: 'ak-formula-editor',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, Fold, TextField],
  templateUrl: './formulaEditor.html',
  styleUrl: './formulaEditor.scss',
})
export class FormulaEditor {
  readonly formula = input.required<string>();
  readonly names = input.required<readonly FormulaName[]>();
  readonly label = input.required<string>();
  readonly hint = input('');
  readonly mayEdit = input(true);
  /** An empty formula is in order: there is none. */
  readonly mayBeEmpty = input(false);
  /** The type that it shall give. */
  readonly wanted = input<FieldType>();
  readonly changed = output<string>();
  readonly #trials = inject(TrialService);
  readonly #functions = toSignal(this.#trials.functions(), { initialValue: [] });
  private readonly host = viewChild.required<ElementRef<HTMLElement>>('host');
  protected readonly sought = signal('');
  protected readonly wrong = signal('');
  protected readonly isWarning = signal(false);
  protected readonly shown = computed(() => {
    const sought = this.sought().toLowerCase();
    return this.#functions().filter(({ signature, says }) => `${signature} ${says}`.toLowerCase().includes(sought));
  });
  readonly #readOnly = new Compartment();
  #view: EditorView | undefined;

  constructor() {
    afterNextRender(() => this.#open());
    inject(DestroyRef).onDestroy(() => this.#view?.destroy());
    effect(() => {
      const [formula, mayEdit] = [this.formula(), this.mayEdit()];
      const view = this.#view;
      if (!view) return;
      view.dispatch({ effects: this.#readOnly.reconfigure(EditorState.readOnly.of(!mayEdit)) });
      // What was typed comes back as the input; only what comes from elsewhere (undo, another cell) is put in.
      if (view.state.doc.toString() !== formula)
        view.dispatch({ changes: { from: 0, to: view.state.doc.length, insert: formula } });
    });
  }

  #open(): void {
    const theme = EditorView.theme({
      '&': { color: 'var(--ink)', fontSize: '12.5px' },
      '.cm-content': { fontFamily: 'var(--values)', caretColor: 'var(--ink)', padding: '4px 0', minHeight: '36px' },
      '&.cm-focused': { outline: 'none' },
      '.cm-placeholder': { color: 'var(--ink-3)' },
      '.cm-tooltip': { backgroundColor: 'var(--sheet)', border: '1px solid var(--hair)', color: 'var(--ink)' },
      '.cm-tooltip-autocomplete ul li[aria-selected]': { backgroundColor: 'var(--petrol)', color: 'var(--sheet)' },
      '.cm-completionDetail': { fontStyle: 'normal' },
      '&.cm-focused .cm-selectionBackground, .cm-selectionBackground': {
        backgroundColor: 'var(--petrol-tint) !important',
      },
    });
    this.#view = new EditorView({
      parent: this.host().nativeElement,
      state: EditorState.create({
        doc: this.formula(),
        extensions: [
          history(),
          bracketMatching(),
          closeBrackets(),
          autocompletion({ override: [(context) => this.#complete(context)], icons: false }),
          linter((view) => this.#check(view.state.doc.toString()), { delay: lintAfterMs }),
          keymap.of([...completionKeymap, ...defaultKeymap, ...historyKeymap]),
          EditorView.lineWrapping,
          theme,
          placeholder(this.hint()),
          this.#readOnly.of(EditorState.readOnly.of(!this.mayEdit())),
          EditorView.contentAttributes.of({ 'aria-label': this.label(), spellcheck: 'false' }),
          EditorView.updateListener.of((update) => {
            const text = update.state.doc.toString();
            if (update.docChanged && text !== this.formula()) this.changed.emit(text);
          }),
        ],
      }),
    });
  }

  async #check(source: string): Promise<readonly Diagnostic[]> {
    if (source.trim() === '' && this.mayBeEmpty()) {
      this.wrong.set('');
      return [];
    }
    const types = Object.fromEntries(
      this.names().map((one) => [rootOf(one), one.name === rootOf(one) ? one.type : undefined]),
    );
    const { problem, warning } = await firstValueFrom(this.#trials.formula(source, types, this.wanted()), {
      defaultValue: {} as FormulaVerdict,
    });
    const found = problem ?? warning;
    this.wrong.set(found?.reason ?? '');
    this.isWarning.set(problem === undefined && warning !== undefined);
    if (!found) return [];
    const from = Math.min(found.range?.from ?? 0, source.length);
    return [
      {
        from,
        to: Math.max(from, found.range?.to ?? source.length),
        severity: problem ? 'error' : 'warning',
        message: found.reason,
      },
    ];
  }

  #complete(context: CompletionContext): CompletionResult | null {
    const word = context.matchBefore(/[A-Za-z_][A-Za-z0-9_.]*/);
    if (!word && !context.explicit) return null;
    const options: Completion[] = [
      ...this.names().map(({ name, says }) => ({ label: name, detail: says, boost: 1 })),
      ...this.#functions().map((one) => ({
        label: shortName(one),
        detail: `${one.example} = ${one.gives}`,
        info: one.says,
        apply: `${shortName(one)}(`,
      })),
    ];
    return { from: word?.from ?? context.pos, options, validFor: /^[A-Za-z0-9_.]*$/ };
  }

  /** Puts an example of the function where the caret is. */
  protected insert(one: FunctionHelp): void {
    const view = this.#view;
    if (!view) return;
    view.dispatch(view.state.replaceSelection(one.example));
    view.focus();
  }
}
