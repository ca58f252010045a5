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
  template: `
    <input #box aria-label="Search views and anchors" placeholder="A view, a name or a record's key" role="combobox" aria-expanded="true" aria-controls="hits" [attr.aria-activedescendant]="hits().length > 0 ? 'hit-' + active() : null" (input)="text.set(box.value); active.set(0)" (keydown)="move($event)" />
    <ul id="hits" role="listbox" aria-label="Found">
      @for (hit of hits(); track hit.path; let index = $index) {
        <li role="option" tabindex="-1" [id]="'hit-' + index" [attr.aria-selected]="index === active()" (click)="open(hit)" (keydown.enter)="open(hit)">{{ hit.name }} <small>{{ hit.kind }}</small></li>
      } @empty { <li role="option" aria-selected="false" aria-disabled="true"><small>Nothing is called that.</small></li> }
    </ul>
  `,
  styles: `
    :host { display: block; width: 520px; max-width: 90vw; }
    input { width: 100%; border: 0; border-bottom: 1px solid var(--hair); background: none; color: inherit; font: 16px/24px var(--words); padding: 12px 16px; outline-offset: -2px; }
    ul { list-style: none; margin: 0; padding: 6px 0; max-height: 380px; overflow: auto; } li { padding: 6px 16px; cursor: pointer; } li[aria-selected='true'] { background: var(--petrol-tint); }
  `,
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
              ? this.#api
                  .anchors(knots[0].id, { search })
                  .pipe(map(({ anchors }) => anchors.map((anchor): Hit => ({ name: anchor.title, kind: knots[0]?.thing ?? '', path: `/anchors/${anchor.id}` }))))
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
