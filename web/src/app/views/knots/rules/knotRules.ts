import { ChangeDetectionStrategy, Component, computed, inject, input, linkedSignal } from '@angular/core';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { Router, RouterLink } from '@angular/router';
import { setRules, type Rule, type SharedField } from '@anchor-knot/core';
import { plural, ruleSentence } from '../../../words/sentences';
import { ListKeys } from '../../listKeys';
import { WithSide } from '../../../layout/withSide';
import { GoLive } from '../editor/goLive';
import { KnotEditor } from '../editor/knotEditor';
import { RuleEditor } from './ruleEditor';
import { tableParts } from '../../../tables/rows';

/** Who wins when members do not agree: a rule for each shared field, or one for many at once. */
@Component({
  selector: 'ak-knot-rules',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [WithSide, MatCheckboxModule, ...tableParts, RouterLink, GoLive, ListKeys, RuleEditor],
  templateUrl: './knotRules.html',
  styleUrl: './knotRules.scss',
})
export class KnotRules {
  /** The field whose rule is looked at, from the address. */
  readonly field = input<string>();
  protected readonly editor = inject(KnotEditor);
  readonly #router = inject(Router);
  protected readonly columns = ['tick', 'field', 'rule', 'reason'];
  /** A computed field is given by no member, so nothing can be said against it. */
  protected readonly fields = computed((): readonly SharedField[] =>
    (this.editor.definition()?.fields ?? []).filter(({ formula }) => formula === undefined),
  );
  protected readonly ticked = linkedSignal<string | undefined, ReadonlySet<string>>({
    source: () => this.editor.definition()?.id,
    computation: () => new Set(),
  });
  /** Those whose rule is edited: all that are ticked, otherwise the one that is looked at. */
  protected readonly edited = computed((): readonly SharedField[] => {
    const ticked = this.fields().filter(({ id }) => this.ticked().has(id));
    if (ticked.length > 0) return ticked;
    const looked = this.fields().find(({ id }) => id === this.field()) ?? this.fields()[0];
    return looked ? [looked] : [];
  });
  protected readonly types = computed(() => this.edited().map(({ type }) => type));
  protected readonly title = computed(() => {
    const [only, ...others] = this.edited();
    return others.length === 0 ? (only?.name ?? '') : plural(others.length + 1, 'field');
  });
  /** Whether the fields that are edited together have different rules now. */
  protected readonly differ = computed(
    () => new Set(this.edited().map(({ rule }) => JSON.stringify({ ...rule, reason: undefined }))).size > 1,
  );

  protected readonly byId = (_: number, { id }: SharedField): string => id;
  protected words({ rule }: SharedField): string {
    return ruleSentence(rule, this.editor.members());
  }
  protected isEdited({ id }: SharedField): boolean {
    return this.edited().some((field) => field.id === id);
  }
  protected tick(id: string): void {
    this.ticked.update((ticked) => {
      const now = new Set(ticked);
      if (!now.delete(id)) now.add(id);
      return now;
    });
  }
  protected look(id: string): void {
    this.ticked.set(new Set());
    void this.#router.navigate([], { queryParams: { field: id }, replaceUrl: true });
  }
  protected set(rule: Rule): void {
    this.editor.edit(setRules(this.#ids(), rule));
  }
  protected reason(text: string): void {
    const [first] = this.edited();
    if (!first) return;
    const { reason: _, ...rest } = first.rule;
    this.editor.edit(setRules(this.#ids(), text.trim() === '' ? rest : { ...rest, reason: text }), 'reason of rules');
  }
  #ids(): string[] {
    return this.edited().map(({ id }) => id);
  }
}
