import { ChangeDetectionStrategy, Component, computed, input, signal } from '@angular/core';
import type { FieldProfile, ObjectView, SourceField } from '@anchor-knot/contracts';
import { count } from '../../words/sentences';

interface Row {
  readonly field: SourceField;
  readonly profile: FieldProfile | undefined;
}

/** The fields of an object, and for each what its records really hold. */
@Component({
  selector: 'ak-object-fields',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    @if (rows().length === 0) { <p class="empty">Nothing is known of its fields yet. A profile reads all records once, and shows for each field how full it is, how many different values it has, the commonest ones, and their forms.</p> } @else {
      <div class="filters"><label><span class="hidden">Find a field</span><input #search type="search" placeholder="Field" (input)="search$.set(search.value)" /></label><small>{{ view().profile ? count(records()) + ' records' : '' }} · {{ view().schema?.origin === 'declared' ? 'the system describes its fields' : 'fields as seen in the records' }}</small></div>
      <table class="plain">
        <thead><tr><th scope="col">Field</th><th scope="col">Filled</th><th scope="col" class="number">Different</th><th scope="col">Commonest</th><th scope="col">Forms</th><th scope="col">From – to</th></tr></thead>
        <tbody>
          @for (row of shown(); track row.field.path) {
            <tr>
              <th scope="row"><span class="value">{{ row.field.path }}</span><small class="block">{{ facts(row.field) }}</small></th>
              @if (row.profile; as profile) {
                <td class="fill"><span class="bar" [style.--full.%]="percent(profile)"></span><small>{{ fill(profile) }}</small></td>
                <td class="number">{{ profile.distinctIsExact ? '' : '≈ ' }}{{ count(profile.distinct) }}</td>
                <td>@for (one of common(profile); track one.value) {<span class="chip"><span class="value">{{ one.value }}</span> <small>{{ profile.commonestIsExact ? '' : '≥ ' }}{{ count(one.count) }}</small></span>} @empty {<span class="quiet">{{ profile.filled === 0 ? '' : 'each once' }}</span>}</td>
                <td>@for (form of profile.formats.slice(0, 3); track form.value) {<span class="chip"><span class="value">{{ form.value }}</span> <small>{{ count(form.count) }}</small></span>}</td>
                <td><span class="value">{{ range(profile) }}</span></td>
              } @else { <td class="quiet">not in any record</td><td></td><td></td><td></td><td></td> }
            </tr>
          }
        </tbody>
      </table>
    }
  `,
  styles: `
    .filters { display: flex; gap: 14px; align-items: center; padding: 8px 10px; } input { font: inherit; color: inherit; background: var(--sheet); border: 1px solid var(--hair); border-radius: 3px; padding: 3px 6px; width: 220px; }
    .block { display: block; } th[scope=row] { min-width: 150px; } .fill { width: 110px; white-space: nowrap; } .bar { display: block; height: 6px; width: 90px; margin: 6px 0 3px; background: linear-gradient(to right, var(--petrol) var(--full), var(--hair-2) var(--full)); }
    .chip { display: inline-block; margin-right: 12px; max-width: 240px; } .chip small { margin-left: 5px; } .chip .value { display: inline-block; max-width: 170px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; vertical-align: bottom; } td .value { overflow-wrap: anywhere; }
  `,
})
export class ObjectFields {
  readonly view = input.required<ObjectView>();
  protected readonly search$ = signal('');
  protected readonly count = count;
  protected readonly records = computed(() => this.view().profile?.records ?? 0);
  protected readonly rows = computed<readonly Row[]>(() => {
    const { schema, profile } = this.view();
    const profiles = new Map(profile?.fields.map((one) => [one.path, one]));
    return (schema?.fields ?? []).map((field) => ({ field, profile: profiles.get(field.path) }));
  });
  protected readonly shown = computed(() => {
    const wanted = this.search$().trim().toLowerCase();
    return this.rows().filter(({ field }) => field.path.toLowerCase().includes(wanted));
  });

  protected facts({ type, required, readOnly, reference, longest, choices }: SourceField): string {
    return [
      type,
      required && 'required',
      readOnly && 'read-only',
      reference && `key of ${reference}`,
      longest !== undefined && `at most ${longest}`,
      choices && choices.join(' | '),
    ]
      .filter(Boolean)
      .join(' · ');
  }
  protected percent({ filled }: FieldProfile): number {
    return this.records() === 0 ? 0 : (filled / this.records()) * 100;
  }
  protected fill(profile: FieldProfile): string {
    if (profile.filled === this.records()) return 'always';
    if (profile.filled === 0) return 'never';
    const percent = this.percent(profile);
    return `${percent < 1 ? '< 1' : percent > 99 ? '> 99' : Math.round(percent)} %`;
  }
  /** A list of values that each stand there once tells nothing. */
  protected common({ commonest }: FieldProfile) {
    return commonest.filter(({ count: times }) => times > 1).slice(0, 3);
  }
  protected range({ type, smallest, largest, longest }: FieldProfile): string {
    if (smallest === null || largest === null) return '';
    if (type === 'text' || type === 'mixed' || type === 'list') return `up to ${longest} characters`;
    return type === 'yes/no' ? '' : smallest === largest ? smallest : `${smallest} – ${largest}`;
  }
}
