import { ChangeDetectionStrategy, Component, computed, inject, signal } from '@angular/core';
import { toObservable, toSignal } from '@angular/core/rxjs-interop';
import { MatDialogModule, MatDialogRef } from '@angular/material/dialog';
import { Router } from '@angular/router';
import { catchError, debounceTime, map, of, switchMap } from 'rxjs';
import { Api } from '../api/api';
import { viewKeys } from './shortcuts';

interface Hit {
  readonly name: string;
  readonly kind: string;
  readonly path: string;
}

/** Ctrl K: views by name, anchors by title or record key. */
@Component({
  selector: 'ak-command-search',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatDialogModule],
  templateUrl: './commandSearch.html',
  styleUrl: './commandSearch.scss',
})
export class CommandSearch {
  readonly #api = inject(Api);
  readonly #router = inject(Router);
  readonly #dialog = inject(MatDialogRef<CommandSearch>);
  protected readonly text = signal('');
  protected readonly active = signal(0);
  readonly #anchors = toSignal(
    toObservable(this.text).pipe(
      debounceTime(150),
      switchMap((search) => {
        if (search.trim().length < 2) return of([]);
        return this.#api.watch().pipe(
          switchMap(({ knots }) =>
            knots[0]
              ? this.#api.anchors(knots[0].id, { search }).pipe(
                  map(({ anchors }) =>
                    anchors.map((anchor): Hit => ({
                      name: anchor.title,
                      kind: knots[0]?.thing ?? '',
                      path: `/anchors/${anchor.id}`,
                    })),
                  ),
                )
              : of([]),
          ),
          catchError(() => of([])),
        );
      }),
    ),
    { initialValue: [] as Hit[] },
  );
  protected readonly hits = computed(() => {
    const wanted = this.text().trim().toLowerCase();
    const views = Object.values(viewKeys).map(({ name, path }): Hit => ({ name, kind: 'view', path }));
    return [...views.filter(({ name }) => name.toLowerCase().includes(wanted)), ...this.#anchors()].slice(0, 12);
  });

  protected move(event: KeyboardEvent): void {
    const last = this.hits().length - 1;
    if (event.key === 'ArrowDown') this.active.update((at) => Math.min(last, at + 1));
    else if (event.key === 'ArrowUp') this.active.update((at) => Math.max(0, at - 1));
    else if (event.key === 'Enter' && this.hits()[this.active()]) this.open(this.hits()[this.active()] as Hit);
    else return;
    event.preventDefault();
  }

  protected open(hit: Hit): void {
    this.#dialog.close();
    void this.#router.navigateByUrl(hit.path);
  }
}
