import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { Sample } from '@anchor-knot/contracts';
import { debounceTime, Subject } from 'rxjs';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { SystemsApi } from '../../api/systemsApi';
import { load } from '../../api/loaded';
import { TextField } from '../../fields/textField';
import { valueText } from '../../values/valueText';
import { State } from '../state';
import { WholeText } from '../../values/wholeText';
import { tableParts } from '../../tables/rows';

const mostColumns = 40;

/** Records of an object, straight from the system, page by page. */
@Component({
  selector: 'ak-object-records',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, MatButtonModule, TextField, State, WholeText],
  templateUrl: './objectRecords.html',
  styleUrl: './objectRecords.scss',
})
export class ObjectRecords {
  readonly system = input.required<string>();
  readonly object = input.required<string>();
  readonly #api = inject(SystemsApi);
  protected readonly typed = new Subject<string>();
  protected readonly wanted = linkedSignal<string, string>({ source: this.object, computation: () => '' });
  protected readonly page = linkedSignal<string, number>({
    source: () => this.object() + this.wanted(),
    computation: () => 0,
  });
  readonly #question = computed(() => JSON.stringify([this.system(), this.object(), this.page(), this.wanted()]));
  protected readonly sample = load(this.#question, () =>
    this.#api.records(this.system(), this.object(), {
      page: this.page(),
      ...(this.wanted() ? { search: this.wanted() } : {}),
    }),
  );
  readonly #paths = computed(() => {
    const names = new Set<string>();
    for (const { fields } of this.sample.value()?.records ?? [])
      for (const path of pathsOf(fields, '')) names.add(path);
    return [...names];
  });
  protected readonly columns = computed(() => this.#paths().slice(0, mostColumns));
  /** Fields that there is no room for. */
  protected readonly left = computed(() => this.#paths().slice(mostColumns).join(', '));

  constructor() {
    this.typed.pipe(debounceTime(350), takeUntilDestroyed()).subscribe((text) => this.wanted.set(text.trim()));
  }

  protected text(fields: Sample['records'][number]['fields'], path: string): string {
    let value: unknown = fields;
    for (const name of path in fields ? [path] : path.split('.'))
      value = typeof value === 'object' && value !== null ? (value as Record<string, unknown>)[name] : undefined;
    return valueText(value);
  }
}

function pathsOf(value: Record<string, unknown>, prefix: string): string[] {
  return Object.entries(value).flatMap(([name, item]) =>
    typeof item === 'object' &&
    item !== null &&
    !Array.isArray(item) &&
    !('$number' in item) &&
    prefix.split('.').length < 4
      ? pathsOf(item as Record<string, unknown>, `${prefix}${name}.`)
      : [prefix + name],
  );
}
