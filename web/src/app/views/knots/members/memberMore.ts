import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatSelectModule } from '@angular/material/select';
import { type FieldType, setMember, type Member } from '@anchor-knot/core';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { Fold } from '../../../fields/fold';
import { KnotEditor } from '../editor/knotEditor';

const orderedTypes: ReadonlySet<FieldType> = new Set(['text', 'number', 'date', 'instant']);

/**
 * What is rarely set of a member: what a creation needs there, in which order records are made, and the field that
 * carries our key.
 */
@Component({
  selector: 'ak-member-more',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatFormFieldModule, MatSelectModule, ChoiceField, Fold],
  templateUrl: './memberMore.html',
  styles: `
    mat-form-field,
    ak-choice-field {
      display: block;
      width: 100%;
      margin-bottom: 6px;
    }
  `,
})
export class MemberMore {
  readonly member = input.required<Member>();
  protected readonly editor = inject(KnotEditor);
  readonly #there = computed(() => this.editor.reading()?.members.find(({ id }) => id === this.member().id));
  /** The fields that are known there, and those that the definition names. */
  protected readonly paths = computed((): readonly string[] => {
    const { required, carries } = this.member();
    const known = (this.#there()?.fields ?? []).map(({ path }) => path);
    return [...new Set([...known, ...required, ...(carries === undefined ? [] : [carries])])];
  });
  protected readonly carriers = computed((): Choice[] => [
    { value: '', says: 'none' },
    ...this.paths().map((path) => ({ value: path, says: path })),
  ]);
  /** The shared fields in whose order records can be made; comments are made so. */
  protected readonly orders = computed((): readonly Choice[] => [
    { value: '', says: 'as they come' },
    ...(this.editor.definition()?.fields ?? [])
      .filter(({ type }) => orderedTypes.has(type))
      .map(({ id, name }) => ({ value: id, says: `in order of ${name}` })),
  ]);
  /** What the system itself says that it needs. */
  protected readonly declared = computed((): readonly string[] =>
    (this.#there()?.fields ?? []).flatMap(({ path, required }) => (required ? [path] : [])),
  );
  protected readonly missing = computed(() => this.declared().filter((path) => !this.member().required.includes(path)));
  protected readonly words = computed(() => {
    const { required, carries, inOrderOf } = this.member();
    const needs = required.length === 0 ? 'a creation needs nothing' : `a creation needs ${required.join(', ')}`;
    const order = this.orders().find(({ value }) => value === inOrderOf);
    return [
      needs,
      order ? `records are made ${order.says}` : '',
      carries === undefined ? '' : `${carries} carries our key`,
    ]
      .filter(Boolean)
      .join('; ');
  });

  protected require(required: string[]): void {
    this.editor.edit(setMember(this.member().id, { required }));
  }
  protected order(field: string): void {
    this.editor.edit(setMember(this.member().id, { inOrderOf: field || undefined }));
  }
  protected carry(path: string): void {
    this.editor.edit(setMember(this.member().id, { carries: path === '' ? undefined : path }));
  }
}
