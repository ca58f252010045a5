import { HttpClient, type HttpInterceptorFn, HttpErrorResponse } from '@angular/common/http';
import { inject, Injectable, signal } from '@angular/core';
import { type CanActivateFn, Router } from '@angular/router';
import { type Person, type Role, roles, sessionSchema } from '@anchor-knot/contracts';
import { catchError, map, type Observable, of, tap, throwError } from 'rxjs';

/** Who is signed in, and the token that every change carries. */
@Injectable({ providedIn: 'root' })
export class SessionService {
  readonly #http = inject(HttpClient);
  readonly #person = signal<Person | undefined>(undefined);
  readonly person = this.#person.asReadonly();
  csrfToken = '';

  load(): Observable<Person | undefined> {
    return this.#http.get('/api/session').pipe(
      map((answer) => this.#take(answer)),
      catchError(() => of(undefined)),
    );
  }
  signIn(email: string, password: string): Observable<Person> {
    return this.#http.post('/api/session', { email, password }).pipe(map((answer) => this.#take(answer)));
  }
  signOut(): Observable<unknown> {
    return this.#http.delete('/api/session').pipe(tap(() => this.forget()));
  }
  forget(): void {
    this.#person.set(undefined);
  }
  /** Whether the person's role is at least this one; the server checks it again. */
  may(role: Role): boolean {
    const person = this.#person();
    return person !== undefined && roles.indexOf(person.role) >= roles.indexOf(role);
  }
  #take(answer: unknown): Person {
    const session = sessionSchema.parse(answer);
    this.csrfToken = session.csrfToken;
    this.#person.set(session.person);
    return session.person;
  }
}

/** Adds the CSRF token to changes, and leads back to the sign-in when the session has ended. */
export const sessionInterceptor: HttpInterceptorFn = (request, next) => {
  const session = inject(SessionService);
  const router = inject(Router);
  const sent =
    request.method === 'GET' ? request : request.clone({ setHeaders: { 'x-csrf-token': session.csrfToken } });
  return next(sent).pipe(
    catchError((error: unknown) => {
      if (error instanceof HttpErrorResponse && error.status === 401 && !request.url.endsWith('/api/session')) {
        session.forget();
        void router.navigate(['/sign-in'], { queryParams: { from: router.url } });
      }
      return throwError(() => error);
    }),
  );
};

export const signedIn: CanActivateFn = (_, state) => {
  const session = inject(SessionService);
  const router = inject(Router);
  if (session.person()) return true;
  return session
    .load()
    .pipe(
      map((person) =>
        person
          ? true
          : router.createUrlTree(['/sign-in'], { queryParams: state.url === '/' ? {} : { from: state.url } }),
      ),
    );
};
