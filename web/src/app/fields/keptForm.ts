import { DestroyRef, inject, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import type { FormGroup } from '@angular/forms';
import { Router } from '@angular/router';
import type { Role } from '@anchor-knot/contracts';
import { type Observable, startWith, type Subscription } from 'rxjs';
import { Asking } from '../api/asking';
import { SessionService } from '../api/session';
import { FormDrafts } from './formDrafts';
import { Telling } from '../telling/telling';

interface Words {
  /** Where all of them are listed, as the parts of an address. */
  readonly list: readonly string[];
  /** What is said when one was kept. */
  readonly kept: string;
  /** What follows from removing one. */
  readonly removed: string;
  /** Who changes them, and whoever may more. */
  readonly role: Role;
}

/**
 * The form of something that the server keeps under an id: what is typed is a draft until it is kept, against the
 * revision that was seen. Made where a component is made.
 */
export class KeptForm<Form extends FormGroup, Value> {
  readonly #router = inject(Router);
  readonly #telling = inject(Telling);
  readonly #drafts = inject(FormDrafts);
  readonly #until = inject(DestroyRef);
  readonly #session = inject(SessionService);
  readonly asking = new Asking();
  readonly form = signal<Form | undefined>(undefined);
  /** What the form says; `undefined` as long as something is wrong with it. */
  readonly set = signal<Value | undefined>(undefined);
  readonly #words: Words;
  readonly #valueOf: (form: Form) => Value | undefined;
  #revision = 0;
  #draftName = '';
  #watching: Subscription | undefined;

  /** @param valueOf says beside each field what is wrong with it, and gives the value where nothing is */
  constructor(words: Words, valueOf: (form: Form) => Value | undefined) {
    this.#words = words;
    this.#valueOf = valueOf;
  }

  /**
   * Shows one, or a new one.
   * @param known what is kept of it, and its revision
   * @param changed is called with each change, and at first
   */
  fill(
    id: string,
    form: Form,
    known: { readonly revision: number; readonly value: Value } | undefined,
    changed: (form: Form) => void = () => undefined,
  ): void {
    this.#revision = known?.revision ?? 0;
    this.#draftName = [...this.#words.list, id].join(' ');
    this.#drafts.keep(this.#draftName, form, this.#until);
    if (!this.#session.may(this.#words.role)) form.disable();
    this.#watching?.unsubscribe();
    this.#watching = form.valueChanges.pipe(startWith(undefined), takeUntilDestroyed(this.#until)).subscribe(() => {
      changed(form);
      this.set.set(form.enabled ? this.#valueOf(form) : known?.value);
    });
    this.form.set(form);
  }

  /** Says what is wrong with all of it, also with what nobody has touched yet. */
  checked(form: Form): Value | undefined {
    const value = this.#valueOf(form);
    form.markAllAsTouched();
    return value;
  }

  /**
   * Keeps it, where nothing is wrong with it.
   * @param id `undefined` for a new one, which is given one
   * @param then what is done when it was kept; the address of a new one is gone to by itself
   */
  save<Answer>(
    form: Form,
    id: string | undefined,
    keep: (id: string, value: Value, revision: number) => Observable<Answer>,
    then: (answer: Answer) => void,
  ): void {
    const value = this.checked(form);
    if (value === undefined) return;
    const name = id ?? crypto.randomUUID();
    this.asking.ask(keep(name, value, this.#revision), (answer) => {
      this.forget();
      this.#telling.say(this.#words.kept);
      then(answer);
      if (id === undefined) void this.#router.navigate([...this.#words.list, name], { replaceUrl: true });
    });
  }

  /** Forgets what was typed and not kept. */
  forget(): void {
    this.#drafts.forget(this.#draftName);
  }

  /** Removes it, when the person says so once more. */
  remove(name: string, remove: () => Observable<unknown>): void {
    this.#telling
      .confirm({ title: `Remove “${name}”?`, says: this.#words.removed, action: 'Remove it' })
      .subscribe(() => this.asking.ask(remove(), () => void this.#router.navigate([...this.#words.list])));
  }
}
