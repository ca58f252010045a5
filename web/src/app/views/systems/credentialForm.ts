import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import type { Problem } from '@anchor-knot/contracts';
import { Api, problemOf } from '../../api/api';

/** Replaces what signs in to a system: typed once, never shown again. */
@Component({
  selector: 'ak-credential-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatButtonModule],
  template: `
    <form [formGroup]="form" (ngSubmit)="save()">
      <label>{{ idLabel() }}<input formControlName="id" autocomplete="off" spellcheck="false" /></label>
      <label>{{ secretLabel() }}<input type="password" formControlName="secret" autocomplete="new-password" /></label>
      @if (problem(); as problem) { <p class="wrong" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
      <button mat-stroked-button type="submit" [disabled]="form.invalid || busy()">Replace</button> <button mat-button type="button" (click)="done.emit(false)">Leave it</button>
    </form>
  `,
  styles: `label { display: block; font-size: 12.5px; color: var(--ink-2); margin-bottom: 8px; } input { display: block; width: 100%; font: 13px/18px var(--values); color: var(--ink); background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 5px 7px; margin-top: 3px; }`,
})
export class CredentialForm {
  readonly system = input.required<string>();
  readonly idLabel = input('Id');
  readonly secretLabel = input('Secret');
  readonly done = output<boolean>();
  readonly #api = inject(Api);
  protected readonly busy = signal(false);
  protected readonly problem = signal<Problem | undefined>(undefined);
  protected readonly form = new FormGroup({
    id: new FormControl('', { nonNullable: true, validators: [Validators.required, Validators.maxLength(500)] }),
    secret: new FormControl('', { nonNullable: true, validators: [Validators.required, Validators.maxLength(5000)] }),
  });

  protected save(): void {
    this.busy.set(true);
    this.#api.replaceCredential(this.system(), this.form.getRawValue()).subscribe({
      next: () => this.done.emit(true),
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error));
      },
    });
  }
}
