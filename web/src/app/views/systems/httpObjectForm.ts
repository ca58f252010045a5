import { ChangeDetectionStrategy, Component, effect, input, output, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import type { HttpObject } from '@anchor-knot/contracts';
import { emptyHttpObject, type HttpObjectDraft, httpObjectDraftOf, readHttpObject } from './httpObjectDraft';
import type { Found } from './systemDraft';

/** How one object of a JSON interface is listed, read and written. */
@Component({
  selector: 'ak-http-object-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule, MatFormFieldModule, MatInputModule, MatSelectModule],
  templateUrl: './httpObjectForm.html',
  styleUrl: './httpObjectForm.scss',
})
export class HttpObjectForm {
  readonly object = input.required<HttpObject>();
  /** Only what is right. */
  readonly changed = output<HttpObject>();
  protected readonly formats = [
    { id: 'iso', name: 'ISO 8601' },
    { id: 'sql utc', name: '2026-11-23 10:00:00, UTC' },
    { id: 'sql local', name: '2026-11-23 10:00:00, its zone' },
    { id: 'unix seconds', name: 'seconds since 1970' },
    { id: 'unix milliseconds', name: 'milliseconds since 1970' },
  ] as const;
  /** What the system calls each type that a field can be added with. */
  protected readonly fieldTypes = [
    { control: 'fieldTypeText', says: 'Text is called' },
    { control: 'fieldTypeNumber', says: 'Number' },
    { control: 'fieldTypeDate', says: 'Date' },
    { control: 'fieldTypeYesNo', says: 'Yes or no' },
  ] as const;
  protected readonly form = new FormGroup(
    Object.fromEntries(
      Object.entries(httpObjectDraftOf(emptyHttpObject)).map(([name, value]) => [
        name,
        new FormControl<unknown>(value, { nonNullable: true }),
      ]),
    ) as unknown as {
      [Name in keyof HttpObjectDraft]: FormControl<HttpObjectDraft[Name]>;
    },
  );
  protected readonly draft = signal(httpObjectDraftOf(emptyHttpObject));
  protected readonly problems = signal<readonly Found[]>([]);
  #given = '';

  constructor() {
    effect(() => {
      const object = this.object();
      // What this form itself has just said comes back from above: the person goes on typing.
      if (JSON.stringify(object) === this.#given) return;
      this.#given = JSON.stringify(object);
      this.form.setValue(httpObjectDraftOf(object), { emitEvent: false });
      this.draft.set(this.form.getRawValue());
    });
    this.form.valueChanges.pipe(takeUntilDestroyed()).subscribe(() => {
      const draft = this.form.getRawValue();
      this.draft.set(draft);
      const { object, problems } = readHttpObject(draft, this.object());
      this.problems.set(problems);
      if (!object) return;
      this.#given = JSON.stringify(object);
      this.changed.emit(object);
    });
  }
}
