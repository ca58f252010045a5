import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { type FileObject, type FilePreview, type FolderFiles, isMeant, type System, type TestSystem } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { valueText } from '../../values/valueText';
import { bytes, plural } from '../../words/sentences';

type FileFound = FolderFiles['files'][number];

const encodings = ['utf-8', 'windows-1252', 'iso-8859-15', 'iso-8859-2', 'windows-1250', 'windows-1251', 'utf-16le', 'utf-16be', 'shift_jis', 'gb18030'];

/** The files of a folder: ticked ones are objects; how they are written was recognised, is shown on their first rows, and can be corrected. */
@Component({
  selector: 'ak-folder-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule],
  template: `
    <p><button mat-stroked-button type="button" [disabled]="!request() || asking.busy()" (click)="list()">List the files</button></p>
    @if (asking.problem(); as one) { <div class="banner" role="alert"><strong>{{ one.says }}</strong><small>{{ one.advice }}</small></div> }
    @if (files(); as found) {
      @if (found.length === 0) { <p class="small">There is no CSV, JSON Lines or XLSX file in it yet.</p> } @else {
        <div class="list"><table class="plain">
          <thead><tr><th scope="col">File</th><th scope="col">Written as</th><th scope="col">Key</th><th scope="col"></th></tr></thead>
          <tbody>@for (file of found; track file.path) {<tr [class.on]="file.path === shown()?.path">
            <th scope="row"><label><input type="checkbox" [checked]="entry(file) !== undefined" [disabled]="!!file.problem" (change)="toggle(file)" /> <span class="value">{{ file.path }}</span></label><small>{{ size(file.bytes) }}</small></th>
            <td>{{ words(entry(file)?.[1] ?? file.object) }}@if (file.problem) {<small class="wrong">{{ file.problem }}</small>}</td>
            <td class="value">{{ (entry(file)?.[1] ?? file.object).key }}</td>
            <td><button mat-button type="button" (click)="show(file)">Look</button></td>
          </tr>}</tbody>
        </table></div>
      }
    }
    @if (shown(); as file) {
      @let object = entry(file)?.[1] ?? correction() ?? file.object;
      <section [attr.aria-label]="file.path">
        <div class="row">
          @if (object.format === 'csv') {
            <label>Delimiter<select (change)="put(file, { delimiter: delimiter.value })" #delimiter>@for (one of delimiters; track one.id) {<option [value]="one.id" [selected]="one.id === object.delimiter">{{ one.name }}</option>}</select></label>
            <label>Quote<select (change)="put(file, { quote: quote.value })" #quote>@for (one of quotes; track one) {<option [selected]="one === object.quote">{{ one }}</option>}</select></label>
          }
          @if (object.format !== 'xlsx') { <label>Encoding<select (change)="put(file, { encoding: encoding.value })" #encoding>@for (one of encodingsWith(object.encoding); track one) {<option [selected]="one === object.encoding">{{ one }}</option>}</select></label> }
          @else { <label>Sheet<select (change)="put(file, { sheet: sheet.value })" #sheet>@for (one of file.sheets; track one) {<option [selected]="one === object.sheet">{{ one }}</option>}</select></label> }
          <label>Key<select (change)="put(file, { key: key.value })" #key>@for (one of columnsWith(object.key); track one) {<option [selected]="one === object.key">{{ one }}</option>}</select></label>
          <label>Last change in<select (change)="put(file, { modifiedAt: time.value || undefined })" #time><option value="" [selected]="!object.modifiedAt">nothing tells</option>@for (one of columnsWith(object.modifiedAt ?? ''); track one) {@if (one) {<option [selected]="one === object.modifiedAt">{{ one }}</option>}}</select></label>
          <label class="wide">The folder brings<select (change)="put(file, { holds: asHolds(holds.value) })" #holds><option value="record set" [selected]="object.holds === 'record set'">the record set</option><option value="deliveries" [selected]="object.holds === 'deliveries'">deliveries, each read once</option></select></label>
          @if (object.holds === 'deliveries' || object.path.includes('*')) { <label class="wide">Files, * stands for anything<input [value]="object.path" (change)="put(file, { path: path.value.trim() })" #path spellcheck="false" /></label> }
        </div>
        @if (preview(); as rows) {
          <div class="list"><table class="plain"><thead><tr>@for (column of rows.columns; track column) {<th scope="col" class="value">{{ column }}</th>}</tr></thead>
            <tbody>@for (row of rows.rows.slice(0, 6); track $index) {<tr>@for (column of rows.columns; track column) {<td class="value">{{ text(row[column]) }}</td>}</tr>} @empty {<tr><td class="quiet">No rows.</td></tr>}</tbody></table></div>
          <p class="small">{{ plural(rows.count, 'row') }}@if (rows.rejected.length > 0) {, and <span class="wrong">{{ plural(rows.rejected.length, 'line') }} that cannot be taken: @for (one of rows.rejected.slice(0, 3); track one.line) {line {{ one.line }}: {{ one.reason }}; }</span>}</p>
        }
      </section>
    }
  `,
  styles: `
    .list { max-height: 260px; overflow: auto; border: 1px solid var(--hair); margin-bottom: 10px; } th label { color: var(--ink); font-size: 13px; white-space: nowrap; } th small, td small { display: block; } tr.on { background: var(--hair-2); } .row { display: flex; gap: 10px; flex-wrap: wrap; align-items: flex-end; margin-bottom: 8px; } .row label { flex: 1 1 150px; } .row .wide { flex: 3 1 240px; } .banner { margin: 0 0 10px; }
  `,
})
export class FolderObjects {
  readonly request = input.required<TestSystem | undefined>();
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly #api = inject(Api);
  protected readonly size = bytes;
  protected readonly plural = plural;
  protected readonly text = valueText;
  protected readonly quotes = ['"', "'"];
  protected readonly delimiters = [
    { id: ',', name: 'comma' },
    { id: ';', name: 'semicolon' },
    { id: '\t', name: 'tab' },
    { id: '|', name: 'bar' },
  ];
  protected readonly asking = new Asking();
  protected readonly files = signal<readonly FileFound[] | undefined>(undefined);
  protected readonly shown = signal<FileFound | undefined>(undefined);
  /** What a person says of a file that is not ticked yet. */
  protected readonly correction = signal<FileObject | undefined>(undefined);
  readonly #read = signal<FilePreview | undefined>(undefined);
  /** Nothing of what was read before stands beside words that it cannot be read. */
  protected readonly preview = computed(() => (this.asking.problem() ? undefined : this.#read()));

  protected list(): void {
    const request = this.request();
    if (!request) return;
    this.asking.ask(this.#api.folderFiles(request), ({ files }) => this.files.set(files));
  }

  /** The object that a file belongs to: its own, or the deliveries that it is one of. */
  protected entry(file: FileFound): [string, FileObject] | undefined {
    return Object.entries(this.objects() as Record<string, FileObject>).find(([, { path }]) => path === file.path || isMeant(path, file.path));
  }

  protected toggle(file: FileFound): void {
    const taken = this.entry(file);
    const { ...objects } = this.objects() as Record<string, FileObject>;
    if (taken) delete objects[taken[0]];
    else {
      const name =
        file.path
          .split('/')
          .at(-1)
          ?.replace(/\.[^.]+$/, '') ?? file.path;
      objects[name in objects ? file.path : name] = (this.shown()?.path === file.path ? this.correction() : undefined) ?? file.object;
    }
    this.changed.emit(objects);
  }

  protected show(file: FileFound): void {
    this.shown.set(file);
    this.correction.set(undefined);
    this.#look(file, this.entry(file)?.[1] ?? file.object);
  }

  protected put(file: FileFound, change: Partial<Record<keyof FileObject, unknown>>): void {
    const taken = this.entry(file);
    const before = taken?.[1] ?? this.correction() ?? file.object;
    // A pattern to start from: what changes from file to file is usually a number or a date.
    const path = change.holds === 'deliveries' && !before.path.includes('*') ? file.path.replaceAll(/\d+(?:[_.-]\d+)*(?=[^/]*$)/g, '*') : undefined;
    const next = Object.fromEntries(
      Object.entries({ ...before, ...(path === undefined ? {} : { path }), ...change }).filter(([, value]) => value !== undefined),
    ) as unknown as FileObject;
    if (taken) this.changed.emit({ ...(this.objects() as Record<string, FileObject>), [taken[0]]: next });
    this.correction.set(next);
    this.#look(file, next);
  }

  protected asHolds(text: string): FileObject['holds'] {
    return text as FileObject['holds'];
  }

  protected encodingsWith(encoding: string): string[] {
    return encodings.includes(encoding) ? encodings : [encoding, ...encodings];
  }

  protected columnsWith(column: string): string[] {
    const columns = this.preview()?.columns ?? [];
    return columns.includes(column) ? columns : [column, ...columns];
  }

  protected words({ path, format, delimiter, encoding, sheet, holds }: FileObject): string {
    const how =
      format === 'csv'
        ? `CSV, ${this.delimiters.find(({ id }) => id === delimiter)?.name ?? delimiter}, ${encoding}`
        : format === 'jsonl'
          ? `JSON Lines, ${encoding}`
          : `workbook, sheet “${sheet ?? 'the first'}”`;
    return holds === 'deliveries' ? `${how}; deliveries` : path.includes('*') ? `${how}; with others like it` : how;
  }

  #look(file: FileFound, object: FileObject): void {
    const request = this.request();
    if (!request) return;
    this.asking.ask(this.#api.previewFile({ ...request, path: file.path, object }), (rows) => this.#read.set(rows));
  }
}
