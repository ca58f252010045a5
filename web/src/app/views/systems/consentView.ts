import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { ActivatedRoute, Router, RouterLink } from '@angular/router';
import type { Problem } from '@anchor-knot/contracts';
import { problemOf } from '../../api/problems';
import { SystemsApi } from '../../api/systemsApi';
import { Telling } from '../../telling/telling';

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
    const telling = inject(Telling);
    const { queryParams } = inject(ActivatedRoute).snapshot;
    inject(SystemsApi)
      .endConsent(new URLSearchParams(queryParams as Record<string, string>).toString())
      .subscribe({
        next: (system) => {
          telling.say('Consent given. The system is signed in to from now on.');
          // The answer is good once: going back must not bring it again.
          void router.navigate(['/systems', system], { replaceUrl: true });
        },
        error: (error: unknown) => this.problem.set(problemOf(error)),
      });
  }
}
