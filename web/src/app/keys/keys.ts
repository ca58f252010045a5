import { DestroyRef, DOCUMENT, inject, Injectable, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { MatDialog } from '@angular/material/dialog';
import { fromEvent } from 'rxjs';

/** What a key does where it is registered. */
export interface KeyBinding {
  /** As `KeyboardEvent.key` has it; with Ctrl or the command key, `ctrl+` before it, in small letters. */
  readonly key: string;
  readonly says: string;
  /** @returns false when it was not meant here, so that another binding of the key may take it */
  act(event: KeyboardEvent): boolean | void;
}

const chordMs = 1200;

/**
 * All keys of the application: views and parts of them register what they do, and what is registered last comes first.
 * Nothing is heard while somebody types or a dialog is open.
 */
@Injectable({ providedIn: 'root' })
export class Keys {
  readonly #dialog = inject(MatDialog);
  readonly #bindings = signal<readonly KeyBinding[]>([]);
  /** What can be pressed now, for the list of keys. */
  readonly bindings = this.#bindings.asReadonly();
  #first: { readonly key: string; readonly at: number } | undefined;

  constructor() {
    fromEvent<KeyboardEvent>(inject(DOCUMENT), 'keydown')
      .pipe(takeUntilDestroyed())
      .subscribe((event) => this.#press(event));
  }

  /** Registers keys for as long as the component lives that asks. Call in an injection context. */
  register(bindings: readonly KeyBinding[]): void {
    this.#bindings.update((known) => [...bindings, ...known]);
    inject(DestroyRef).onDestroy(() =>
      this.#bindings.update((known) => known.filter((binding) => !bindings.includes(binding))),
    );
  }

  #press(event: KeyboardEvent): void {
    if (this.#dialog.openDialogs.length > 0) return;
    const isCommand = event.ctrlKey || event.metaKey;
    if (event.altKey || (!isCommand && isTyping(event))) return;
    const key = isCommand ? `ctrl+${event.key.toLowerCase()}` : event.key;
    // A key alone, or after another one that was pressed just before it, as `g w`.
    const before = this.#first !== undefined && event.timeStamp - this.#first.at < chordMs ? `${this.#first.key} ` : '';
    this.#first = before === '' && this.#isFirst(key) ? { key, at: event.timeStamp } : undefined;
    const meant = this.#bindings().filter((binding) => binding.key === before + key);
    for (const binding of meant) {
      if (binding.act(event) === false) continue;
      event.preventDefault();
      return;
    }
  }

  #isFirst(key: string): boolean {
    return this.#bindings().some((binding) => binding.key.startsWith(`${key} `));
  }
}

/** Whether a key goes into a text or works a control, and is no command. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target instanceof Element ? event.target : null;
  const field = target?.closest<HTMLElement>(
    'input, textarea, [contenteditable], .cm-editor, mat-select, [role="menu"], [role="listbox"]',
  );
  return field !== undefined && field !== null && !isTick(field);
}

/** A tick or a slider takes the space bar and arrows, no letters. */
function isTick(field: HTMLElement): boolean {
  return field instanceof HTMLInputElement && ['checkbox', 'radio', 'range'].includes(field.type);
}
