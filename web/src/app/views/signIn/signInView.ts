import { ChangeDetectionStrategy, Component, inject, input, signal } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { Router } from '@angular/router';
import type { Problem } from '@anchor-knot/contracts';
import { problemOf } from '../../api/api';
import { SessionService } from '../../api/session';

@Component({
  selector: 'ak-sign-in-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatButtonModule, MatFormFieldModule, MatInputModule],
  template: `
    <form [formGroup]="form" (ngSubmit)="submit()">
      <svg width="44" height="44" viewBox="0 0 30 30" fill="none" stroke="var(--petrol)" stroke-width="3.2" stroke-linecap="round" aria-hidden="true"><path d="M6 24C6 13 24 17 24 6" /><path d="M24 24C24 13 6 17 6 6" stroke="var(--paper)" stroke-width="7" /><path d="M24 24C24 13 6 17 6 6" /></svg>
      <h1>Anchor Knot</h1>
      <p>Your systems, telling the same story.</p>
      <mat-form-field appearance="outline"><mat-label>Email</mat-label><input matInput type="email" formControlName="email" autocomplete="username" /></mat-form-field>
      <mat-form-field appearance="outline"><mat-label>Password</mat-label><input matInput type="password" formControlName="password" autocomplete="current-password" /></mat-form-field>
      @if (problem(); as problem) { <p class="wrong" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
      <button mat-flat-button type="submit" [disabled]="busy()">Sign in</button>
    </form>
  `,
  styles: `form { width: 320px; max-width: 90vw; margin: 16vh auto 0; display: flex; flex-direction: column; gap: 4px; } h1 { margin-top: 8px; } p { margin: 0 0 14px; color: var(--ink-2); } p.wrong { color: var(--vermilion); margin: 0 0 8px; } button { align-self: flex-start; }`,
})
export class SignInView {
  readonly #session = inject(SessionService);
  readonly #router = inject(Router);
  /** Where the person wanted to go. */
  readonly from = input<string>();
  protected readonly busy = signal(false);
  protected readonly problem = signal<Problem | undefined>(undefined);
  protected readonly form = new FormGroup({
    email: new FormControl('', { nonNullable: true, validators: Validators.required }),
    password: new FormControl('', { nonNullable: true, validators: Validators.required }),
  });

  protected submit(): void {
    const { email, password } = this.form.getRawValue();
    if (this.form.invalid) return this.problem.set({ code: 'empty', says: 'Give your email and your password.' });
    this.busy.set(true);
    this.#session.signIn(email, password).subscribe({
      next: () => void this.#router.navigateByUrl(safePath(this.from())),
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error));
      },
    });
  }
}

/** Only addresses of our own: a link must not lead elsewhere after the sign-in. */
function safePath(path: string | undefined): string {
  return path?.startsWith('/') && !path.startsWith('//') && !path.startsWith('/sign-in') ? path : '/watch';
}
