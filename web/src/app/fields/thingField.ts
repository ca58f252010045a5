import { ChangeDetectionStrategy, Component, inject, input, output } from '@angular/core';
import { toSignal } from '@angular/core/rxjs-interop';
import { FormControl, ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import type { AnchorList } from '@anchor-knot/contracts';
import { catchError, debounceTime, filter, map, of, switchMap } from 'rxjs';
import { AnchorsApi } from '../api/anchorsApi';

const pauseMs = 200;
const fewestLetters = 2;

/** A thing of a knot, sought by a part of its name or of a key. */
@Component({
  selector: 'ak-thing-field',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatAutocompleteModule, MatFormFieldModule, MatInputModule, ReactiveFormsModule],
  templateUrl: './thingField.html',
  styles: `
    mat-form-field {
      width: 100%;
    }
  `,
})
export class ThingField {
  readonly knot = input.required<string>();
  readonly label = input.required<string>();
  readonly chosen = output<AnchorList['anchors'][number]>();
  readonly #anchors = inject(AnchorsApi);
  protected readonly search = new FormControl('', { nonNullable: true });
  protected readonly found = toSignal(
    this.search.valueChanges.pipe(
      debounceTime(pauseMs),
      map((text) => text.trim()),
      filter((text) => text.length >= fewestLetters),
      switchMap((text) => this.#anchors.anchors(this.knot(), { search: text }).pipe(catchError(() => of(undefined)))),
      map((page) => page?.anchors ?? []),
    ),
    { initialValue: undefined },
  );

  protected choose(id: string): void {
    const chosen = this.found()?.find((anchor) => anchor.id === id);
    if (!chosen) return;
    this.search.setValue('', { emitEvent: false });
    this.chosen.emit(chosen);
  }
}
