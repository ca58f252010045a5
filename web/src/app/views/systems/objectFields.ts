import { ChangeDetectionStrategy, Component, computed, input, signal } from '@angular/core';
import type { FieldProfile, ObjectView, SourceField } from '@anchor-knot/contracts';
import { TextField } from '../../fields/textField';
import { count } from '../../words/sentences';
import { tableParts } from '../../tables/rows';

interface Row {
  readonly field: SourceField;
  readonly profile: FieldProfile | undefined;
}

/** The fields of an object, and for each what its records really hold. */
@Component({
  selector: 'ak-object-fields',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, TextField],
  templateUrl: './objectFields.html',
  styleUrl: './objectFields.scss',
})
export class ObjectFields {
  readonly view = input.required<ObjectView>();
  protected readonly sought = signal('');
  protected readonly count = count;
  protected readonly records = computed(() => this.view().profile?.records ?? 0);
  protected readonly rows = computed<readonly Row[]>(() => {
    const { schema, profile } = this.view();
    const profiles = new Map(profile?.fields.map((one) => [one.path, one]));
    return (schema?.fields ?? []).map((field) => ({ field, profile: profiles.get(field.path) }));
  });
  protected readonly shown = computed(() => {
    const wanted = this.sought().trim().toLowerCase();
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
