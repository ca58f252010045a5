import { ChangeDetectionStrategy, Component, computed, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import {
  type FileObject,
  type FilePreview,
  type FolderFiles,
  isMeant,
  type System,
  type TestSystem,
} from '@anchor-knot/contracts';
import { SystemsApi } from '../../api/systemsApi';
import { Asking } from '../../api/asking';
import { type Choice, ChoiceField, choicesOf } from '../../fields/choiceField';
import { TextField } from '../../fields/textField';
import { valueText } from '../../values/valueText';
import { bytes, plural } from '../../words/sentences';
import { ProblemText } from '../problem';
import { tableParts } from '../../tables/rows';

type FileFound = FolderFiles['files'][number];

const encodings = [
  'utf-8',
  'windows-1252',
  'iso-8859-15',
  'iso-8859-2',
  'windows-1250',
  'windows-1251',
  'utf-16le',
  'utf-16be',
  'shift_jis',
  'gb18030',
];

/**
 * The files of a folder: ticked ones are objects; how they are written was recognised, is shown on their first rows,
 * and can be corrected.
 */
@Component({
  selector: 'ak-folder-objects',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ProblemText, MatButtonModule, MatCheckboxModule, ChoiceField, TextField],
  templateUrl: './folderObjects.html',
  styleUrl: './folderObjects.scss',
})
export class FolderObjects {
  readonly request = input.required<TestSystem | undefined>();
  readonly objects = input.required<System['objects']>();
  readonly changed = output<System['objects']>();
  readonly #api = inject(SystemsApi);
  protected readonly size = bytes;
  protected readonly plural = plural;
  protected readonly text = valueText;
  protected readonly choicesOf = choicesOf;
  protected readonly quotes = choicesOf(['"', "'"]);
  protected readonly contents: readonly Choice<FileObject['holds']>[] = [
    { value: 'record set', says: 'the record set' },
    { value: 'deliveries', says: 'deliveries, each read once' },
  ];
  protected readonly delimiters: readonly Choice[] = [
    { value: ',', says: 'comma' },
    { value: ';', says: 'semicolon' },
    { value: '\t', says: 'tab' },
    { value: '|', says: 'bar' },
  ];
  protected readonly asking = new Asking();
  protected readonly files = signal<readonly FileFound[] | undefined>(undefined);
  protected readonly shown = signal<FileFound | undefined>(undefined);
  /** What a person says of a file that is not ticked yet. */
  protected readonly correction = signal<FileObject | undefined>(undefined);
  readonly #read = signal<FilePreview | undefined>(undefined);
  /** Nothing of what was read before stands beside words that it cannot be read. */
  protected readonly preview = computed(() => (this.asking.problem() ? undefined : this.#read()));

  protected readonly previewColumns = computed(() => [...(this.preview()?.columns ?? [])]);
  protected readonly shownRows = computed(() => this.preview()?.rows.slice(0, 6) ?? []);

  protected list(): void {
    const request = this.request();
    if (!request) return;
    this.asking.ask(this.#api.folderFiles(request), ({ files }) => this.files.set(files));
  }

  /** The object that a file belongs to: its own, or the deliveries that it is one of. */
  protected entry(file: FileFound): [string, FileObject] | undefined {
    return Object.entries(this.objects() as Record<string, FileObject>).find(
      ([, { path }]) => path === file.path || isMeant(path, file.path),
    );
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
      objects[Object.hasOwn(objects, name) ? file.path : name] =
        (this.shown()?.path === file.path ? this.correction() : undefined) ?? file.object;
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
    const path =
      change.holds === 'deliveries' && !before.path.includes('*')
        ? file.path.replaceAll(/\d+(?:[_.-]\d+)*(?=[^/]*$)/g, '*')
        : undefined;
    const next = Object.fromEntries(
      Object.entries({ ...before, ...(path === undefined ? {} : { path }), ...change }).filter(
        ([, value]) => value !== undefined,
      ),
    ) as unknown as FileObject;
    if (taken) this.changed.emit({ ...(this.objects() as Record<string, FileObject>), [taken[0]]: next });
    this.correction.set(next);
    this.#look(file, next);
  }

  protected encodingsWith(encoding: string): Choice[] {
    return choicesOf(encodings.includes(encoding) ? encodings : [encoding, ...encodings]);
  }

  protected columnsWith(column: string): Choice[] {
    const columns = this.preview()?.columns ?? [];
    return choicesOf(columns.includes(column) ? columns : [column, ...columns]);
  }

  protected timesWith(column: string): Choice[] {
    const columns = this.columnsWith(column).filter(({ value }) => value !== '');
    return [{ value: '', says: 'nothing tells' }, ...columns];
  }

  protected words({ path, format, delimiter, encoding, sheet, holds }: FileObject): string {
    const how =
      format === 'csv'
        ? `CSV, ${this.delimiters.find(({ value }) => value === delimiter)?.says ?? delimiter}, ${encoding}`
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
