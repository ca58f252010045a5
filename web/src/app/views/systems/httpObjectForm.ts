import { ChangeDetectionStrategy, Component, effect, input, output, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { FormControl, FormGroup, ReactiveFormsModule } from '@angular/forms';
import type { HttpObject } from '@anchor-knot/contracts';
import { emptyHttpObject, type HttpObjectDraft, httpObjectDraftOf, readHttpObject } from './httpObjectDraft';
import type { Found } from './systemDraft';

/** How one object of a JSON interface is listed, read and written. */
@Component({
  selector: 'ak-http-object-form',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ReactiveFormsModule],
  template: `
    <div [formGroup]="form">
      <div class="row"><label>Key<input formControlName="key" spellcheck="false" /></label><label>Last change in<input formControlName="modifiedField" placeholder="nothing tells" spellcheck="false" /></label><label>written as<select formControlName="modifiedFormat">@for (one of formats; track one.id) {<option [value]="one.id">{{ one.name }}</option>}</select></label><label>Entity tag in<input formControlName="etag" placeholder="none in lists" spellcheck="false" /></label></div>
      <div class="row"><label class="wide">Listed at<input formControlName="listPath" spellcheck="false" /></label><label>Records in<input formControlName="listItems" placeholder="the answer itself" spellcheck="false" /></label><label>Page size, parameter<input formControlName="sizeParameter" spellcheck="false" /></label><label class="narrow">Records a page<input formControlName="sizeValue" inputmode="numeric" /></label></div>
      <div class="row"><label>Pages<select formControlName="paging"><option value="cursor">by a cursor</option><option value="link header">by the Link header</option><option value="page number">by number</option><option value="offset">by offset</option></select></label>
        @if (draft().paging !== 'link header') { <label>Page, parameter<input formControlName="pagingParameter" spellcheck="false" /></label> }
        @if (draft().paging === 'cursor') { <label>Next page in<input formControlName="pagingNext" spellcheck="false" /></label> }
        @if (draft().paging === 'cursor' || draft().paging === 'page number') { <label class="narrow">First page<input formControlName="pagingFirst" [placeholder]="draft().paging === 'cursor' ? 'none' : '1'" spellcheck="false" /></label> }
        <label>Changed since, parameter<input formControlName="sinceParameter" placeholder="cannot be asked" spellcheck="false" /></label><label>written as<select formControlName="sinceFormat">@for (one of formats; track one.id) {<option [value]="one.id">{{ one.name }}</option>}</select></label></div>
      <div class="row"><label>Deleted, told in<input formControlName="deletedField" placeholder="not told" spellcheck="false" /></label>@if (draft().deletedField) {<label>as<input formControlName="deletedValue" placeholder="anything" spellcheck="false" /></label>}</div>
      <div class="row"><label class="wide">One record at<input formControlName="readPath" spellcheck="false" /></label><label>Record in<input formControlName="readItem" placeholder="the answer itself" spellcheck="false" /></label><label class="wide">Found by<textarea formControlName="search" rows="2" placeholder="email = email" spellcheck="false"></textarea></label></div>
      <div class="row"><label>Create<select formControlName="createMethod"><option value="">not possible</option><option>POST</option><option>PUT</option></select></label>@if (draft().createMethod) {<label class="wide">Create at<input formControlName="createPath" spellcheck="false" /></label><label>Inside<input formControlName="createWrap" placeholder="nothing" spellcheck="false" /></label><label>Idempotency header<input formControlName="idempotencyHeader" placeholder="none" spellcheck="false" /></label>}</div>
      <div class="row"><label>Update<select formControlName="updateMethod"><option value="">not possible</option><option>PATCH</option><option>PUT</option><option>POST</option></select></label>@if (draft().updateMethod) {<label class="wide">Update at<input formControlName="updatePath" spellcheck="false" /></label><label>Inside<input formControlName="updateWrap" placeholder="nothing" spellcheck="false" /></label><label>If-Match<select formControlName="ifMatch"><option value="yes">heeded</option><option value="no">not known</option></select></label>}</div>
      <div class="row"><label class="wide">Delete at<input formControlName="removePath" placeholder="not possible" spellcheck="false" /></label>@if (draft().removePath) {<label>If-Match<select formControlName="removeIfMatch"><option value="yes">heeded</option><option value="no">not known</option></select></label>}<label>Archived by<input formControlName="archiveField" placeholder="not possible" spellcheck="false" /></label>@if (draft().archiveField) {<label>given<input formControlName="archiveValue" spellcheck="false" /></label>}</div>
      <div class="row"><label class="wide">Events<input formControlName="events" placeholder="none; such as contact.created, contact.changed" spellcheck="false" /></label></div>
      @if (problems().length > 0) { <ul class="wrong" role="status">@for (one of problems(); track $index) {<li>{{ one.at }}: {{ one.says }}</li>}</ul> }
    </div>
  `,
  styles: `
    .row { display: flex; gap: 10px; margin-bottom: 8px; flex-wrap: wrap; align-items: flex-end; } label { flex: 1 1 120px; } .wide { flex: 3 1 220px; } .narrow { flex: 0 1 96px; } ul { margin: 0; padding-left: 18px; font-size: 12.5px; }
  `,
})
export class HttpObjectForm {
  readonly object = input.required<HttpObject>();
  /** Only what is right. */
  readonly changed = output<HttpObject>();
  protected readonly formats = [
    { id: 'iso', name: 'ISO 8601' },
    { id: 'sql utc', name: '2026-11-23 10:00:00, UTC' },
    { id: 'unix seconds', name: 'seconds since 1970' },
    { id: 'unix milliseconds', name: 'milliseconds since 1970' },
  ] as const;
  protected readonly form = new FormGroup(
    Object.fromEntries(Object.entries(httpObjectDraftOf(emptyHttpObject)).map(([name, value]) => [name, new FormControl<unknown>(value, { nonNullable: true })])) as unknown as {
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
