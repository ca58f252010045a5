import { type DestroyRef, Injectable } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import type { FormGroup } from '@angular/forms';
import { debounceTime, type Subscription } from 'rxjs';
import { z } from 'zod';

const keptAfterMs = 300;
const prefix = 'anchor-knot-form ';
const keptSchema = z.record(z.string(), z.unknown());

/**
 * What is typed into a long form is kept in this tab until it was sent: a reload, a sign-out or a wrong turn loses
 * nothing. What is secret is never kept.
 */
@Injectable({ providedIn: 'root' })
export class FormDrafts {
  readonly #keeping = new Map<string, Subscription>();

  /**
   * Fills the form with what was typed before, and keeps what is typed from now on.
   * @param name of the form, and of what it changes
   * @param until the form is gone
   * @param secrets names of controls that are never kept
   * @returns whether something was kept
   */
  keep(name: string, form: FormGroup, until: DestroyRef, secrets: readonly string[] = []): boolean {
    const kept = this.#read(name);
    if (kept) {
      form.patchValue(kept);
      form.markAsDirty();
    }
    this.#keeping.get(name)?.unsubscribe();
    const keeping = form.valueChanges
      .pipe(debounceTime(keptAfterMs), takeUntilDestroyed(until))
      .subscribe((value: Record<string, unknown>) => {
        if (!form.dirty) return;
        const open = Object.entries(value).filter(([control]) => !secrets.includes(control));
        sessionStorage.setItem(prefix + name, JSON.stringify(Object.fromEntries(open)));
      });
    this.#keeping.set(name, keeping);
    return kept !== undefined;
  }

  /** The form was sent: what was typed last is not kept either, however soon before that it was. */
  forget(name: string): void {
    this.#keeping.get(name)?.unsubscribe();
    this.#keeping.delete(name);
    sessionStorage.removeItem(prefix + name);
  }

  #read(name: string): Record<string, unknown> | undefined {
    try {
      return keptSchema.parse(JSON.parse(sessionStorage.getItem(prefix + name) ?? ''));
    } catch {
      return undefined;
    }
  }
}
