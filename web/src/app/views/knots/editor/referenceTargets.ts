import { inject, Injectable, signal } from '@angular/core';
import type { KnotDefinition, KnotList, Thing } from '@anchor-knot/contracts';
import { catchError, forkJoin, map, type Observable, of, shareReplay, tap } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import type { AskedOfKnot, KnownOfKnots } from './trialMessages';

const nothingKnown: KnownOfKnots = { names: [], substitutes: [] };

/** The knots that a definition refers to: their definitions, and the names of their things. */
@Injectable()
export class ReferenceTargets {
  readonly #api = inject(KnotsApi);
  readonly #asked = new Set<string>();
  readonly #answers = new Map<string, Observable<KnownOfKnots>>();
  /** Knots in force, by which something can be referred to. */
  readonly knots = signal<KnotList['knots']>([]);
  readonly definitions = signal<Readonly<Record<string, KnotDefinition>>>({});
  readonly things = signal<Readonly<Record<string, Thing>>>({});

  /** Loads which knots there are. */
  load(): void {
    if (this.#asked.has('')) return;
    this.#asked.add('');
    this.#api.knots().subscribe({
      next: (knots) => this.knots.set(knots.filter(({ version }) => version > 0)),
      error: () => this.#asked.delete(''),
    });
  }

  /** Loads the definition of a knot that is referred to, where it is not known yet. */
  know(knot: string): void {
    const version = this.knots().find(({ id }) => id === knot)?.version;
    if (version === undefined || this.#asked.has(knot)) return;
    this.#asked.add(knot);
    this.#api.version(knot, version).subscribe({
      next: (definition) => this.definitions.update((known) => ({ ...known, [knot]: definition })),
      error: () => this.#asked.delete(knot),
    });
  }

  /** Notes what a thing is called. */
  name(thing: Thing): void {
    this.things.update((known) => ({ ...known, [thing.$thing]: thing }));
  }

  /** Looks up what is asked of other knots. What cannot be looked up now is as if it were not there. */
  knownOf(asked: readonly AskedOfKnot[]): Observable<KnownOfKnots> {
    if (asked.length === 0) return of(nothingKnown);
    return forkJoin(asked.map((one) => this.#knownIn(one))).pipe(
      map((all) => ({
        names: all.flatMap(({ names }) => names),
        substitutes: all.flatMap(({ substitutes }) => substitutes),
      })),
    );
  }

  #knownIn({ knot, keys, values }: AskedOfKnot): Observable<KnownOfKnots> {
    const question = JSON.stringify([knot, keys, values]);
    const known = this.#answers.get(question);
    if (known) return known;
    const answer = this.#api.things(knot, { keys, values }).pipe(
      tap(({ things }) =>
        this.things.update((before) => ({
          ...before,
          ...Object.fromEntries(things.map((thing) => [thing.$thing, thing])),
        })),
      ),
      map(({ names, substitutes }) => ({ names, substitutes })),
      catchError(() => {
        this.#answers.delete(question);
        return of(nothingKnown);
      }),
      shareReplay(1),
    );
    this.#answers.set(question, answer);
    return answer;
  }
}
