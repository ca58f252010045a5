import { HttpErrorResponse } from '@angular/common/http';
import type { Provider } from '@angular/core';
import { signal } from '@angular/core';
import type { Problem } from '@anchor-knot/contracts';
import { of, Subject, throwError } from 'rxjs';
import { LiveEvents } from '../api/liveEvents';
import { SessionService } from '../api/session';
import { Telling } from '../telling/telling';

const ranks = ['viewer', 'operator', 'editor', 'administrator'] as const;

/** Somebody of a role who is signed in. */
export function signedInAs(role: (typeof ranks)[number]): Provider {
  return {
    provide: SessionService,
    useValue: {
      person: signal({ name: 'Ottilie Brandt', email: 'ottilie@hazelmoor.example', role }),
      may: (wanted: (typeof ranks)[number]) => ranks.indexOf(role) >= ranks.indexOf(wanted),
    },
  };
}

/** All that is told, in order. Who is asked to confirm does. */
export function telling(): { readonly told: string[]; readonly provider: Provider } {
  const told: string[] = [];
  const tell = (says: string): void => void told.push(says);
  const sayProblem = (error: { error?: Problem }): void => tell(error.error?.says ?? 'something failed');
  const confirm = ({ title }: { title: string }) => (tell(title), of(true));
  const offer = (says: string) => (tell(says), new Subject<void>());
  return { told, provider: { provide: Telling, useValue: { say: tell, sayProblem, confirm, offer } } };
}

/** Nothing happens elsewhere. */
export const quiet: Provider = {
  provide: LiveEvents,
  useValue: { ends: new Subject(), decided: new Subject(), events: new Subject(), progress: new Subject() },
};

/** An answer that refuses. */
export const refused = (status: number, problem: Problem) =>
  throwError(() => new HttpErrorResponse({ status, error: problem }));
