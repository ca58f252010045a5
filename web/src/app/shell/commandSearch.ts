import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatDialogModule, MatDialogRef } from '@angular/material/dialog';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { Router } from '@angular/router';
import { catchError, debounceTime, forkJoin, map, of, startWith, switchMap } from 'rxjs';
import { AnchorsApi } from '../api/anchorsApi';
import { KnotsApi } from '../api/knotsApi';
import { SystemsApi } from '../api/systemsApi';
import { type Place, placesCalled, placesOf } from './places';

const typingPauseMs = 150;
const leastSearched = 2;

/** Ctrl K: everything that has a name and a place of its own. */
@Component({
  selector: 'ak-command-search',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatAutocompleteModule, MatDialogModule, MatFormFieldModule, MatInputModule, ReactiveFormsModule],
  templateUrl: './commandSearch.html',
  styleUrl: './commandSearch.scss',
})
export class CommandSearch {
  readonly #anchors = inject(AnchorsApi);
  readonly #router = inject(Router);
  readonly #dialog = inject(MatDialogRef<CommandSearch>);
  protected readonly text = new FormControl<string | Place>('', { nonNullable: true });
  readonly #typed = toSignal(
    this.text.valueChanges.pipe(map((typed) => (typeof typed === 'string' ? typed.trim() : typed.name))),
    { initialValue: '' },
  );
  /** Few, so they are fetched once; what cannot be had is left out. */
  readonly #places = toSignal(
    forkJoin({
      knots: inject(KnotsApi)
        .knots()
        .pipe(catchError(() => of([]))),
      systems: inject(SystemsApi)
        .systems()
        .pipe(catchError(() => of([]))),
    }).pipe(
      map(({ knots, systems }) => placesOf(knots, systems)),
      startWith(placesOf([], [])),
    ),
    { requireSync: true },
  );
  readonly #found = toSignal(
    this.text.valueChanges.pipe(
      debounceTime(typingPauseMs),
      switchMap((typed) =>
        typeof typed !== 'string' || typed.trim().length < leastSearched
          ? of([])
          : this.#anchors.find(typed.trim()).pipe(catchError(() => of([]))),
      ),
      map((anchors) =>
        anchors.map(({ id, title, knotName, keys }): Place => ({
          name: title || 'without a name',
          kind: `${knotName} · ${keys.join(' · ')}`,
          path: `/anchors/${id}`,
        })),
      ),
    ),
    { initialValue: [] as Place[] },
  );
  protected readonly hits = computed(() => [...placesCalled(this.#places(), this.#typed()), ...this.#found()]);
  protected readonly nameOf = (place: Place | string): string => (typeof place === 'string' ? place : place.name);

  protected open(place: Place): void {
    this.#dialog.close();
    void this.#router.navigateByUrl(place.path);
  }
}
