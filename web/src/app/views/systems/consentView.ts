import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { ActivatedRoute, Router, RouterLink } from '@angular/router';
import { MatSnackBar } from '@angular/material/snack-bar';
import type { Problem } from '@anchor-knot/contracts';
import { Api, problemOf } from '../../api/api';

/** Where a person comes back to from another system, with its answer to the wish to sign in there. */
@Component({
  selector: 'ak-consent-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  templateUrl: './consentView.html',
})
export class ConsentView {
  protected readonly problem = signal<Problem | undefined>(undefined);

  constructor() {
    const router = inject(Router);
    const snack = inject(MatSnackBar);
    const { queryParams } = inject(ActivatedRoute).snapshot;
    inject(Api)
      .endConsent(new URLSearchParams(queryParams as Record<string, string>).toString())
      .subscribe({
        next: (system) => {
          snack.open('Consent given. The system is signed in to from now on.', 'Close');
          // The answer is good once: going back must not bring it again.
          void router.navigate(['/systems', system], { replaceUrl: true });
        },
        error: (error: unknown) => this.problem.set(problemOf(error)),
      });
  }
}
