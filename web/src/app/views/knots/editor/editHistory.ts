import { computed, signal, type WritableSignal } from '@angular/core';

const mostSteps = 300;
/** What is typed without a longer pause is one step of undo. */
const typingPauseMs = 1500;

/** Something that is edited step by step: each step can be undone, and done again until another one is made. */
export class EditHistory<State> {
  readonly #now = signal<State | undefined>(undefined);
  readonly #past = signal<readonly State[]>([]);
  readonly #future = signal<readonly State[]>([]);
  #typing: { readonly about: string; readonly at: number } | undefined;

  readonly now = this.#now.asReadonly();
  readonly canUndo = computed(() => this.#past().length > 0);
  readonly canRedo = computed(() => this.#future().length > 0);

  /** Begins anew: there is nothing to undo. */
  begin(state: State | undefined): void {
    this.#past.set([]);
    this.#future.set([]);
    this.#now.set(state);
  }

  /** @param about what is being typed into: what follows shortly in the same place is undone together with it */
  put(next: State, about?: string): void {
    const now = this.#now();
    const at = Date.now();
    const isMore = about !== undefined && this.#typing?.about === about && at - this.#typing.at < typingPauseMs;
    this.#typing = about === undefined ? undefined : { about, at };
    if (!isMore && now !== undefined) this.#past.update((past) => [...past.slice(-mostSteps), now]);
    this.#future.set([]);
    this.#now.set(next);
  }

  /** @returns whether there was a step to undo */
  undo(): boolean {
    return this.#step(this.#past, this.#future);
  }

  /** @returns whether there was a step to do again */
  redo(): boolean {
    return this.#step(this.#future, this.#past);
  }

  #step(source: WritableSignal<readonly State[]>, to: WritableSignal<readonly State[]>): boolean {
    this.#typing = undefined;
    const now = this.#now();
    const next = source().at(-1);
    if (now === undefined || next === undefined) return false;
    source.update((steps) => steps.slice(0, -1));
    to.update((steps) => [...steps, now]);
    this.#now.set(next);
    return true;
  }
}
