import { ChangeDetectionStrategy, Component, inject, input, signal } from '@angular/core';
import { FormControl, FormGroup, ReactiveFormsModule, Validators } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { Router } from '@angular/router';
import type { Problem } from '@anchor-knot/contracts';
import { problemOf } from '../../api/problems';
import { SessionService } from '../../api/session';
import { ProblemText } from '../problem';

@Component({
  selector: 'ak-sign-in-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, ReactiveFormsModule, MatButtonModule, MatFormFieldModule, MatInputModule],
  templateUrl: './signInView.html',
  styleUrl: './signInView.scss',
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
