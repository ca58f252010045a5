import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { setKnot, type KnotSettings } from '@anchor-knot/core';
import { ChoiceField, type Choice } from '../../../fields/choiceField';
import { Fold } from '../../../fields/fold';
import { TextField } from '../../../fields/textField';
import { KnotEditor } from '../editor/knotEditor';

const mostLabels = 20;

/** What a knot is: its names, who answers for it, and how it begins. */
@Component({
  selector: 'ak-knot-settings',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ChoiceField, Fold, TextField],
  templateUrl: './knotSettings.html',
  styles: `
    .form-row {
      max-width: 900px;
    }
  `,
})
export class KnotSettingsForm {
  protected readonly editor = inject(KnotEditor);
  protected readonly starts: readonly Choice<KnotSettings['start']>[] = [
    { value: 'merge', says: 'values that differ are settled by the rules' },
    { value: 'adopt', says: 'values that differ stay until somebody edits them' },
  ];
  protected readonly titles = computed((): Choice[] =>
    (this.editor.definition()?.fields ?? []).map(({ id, name }) => ({ value: id, says: name })),
  );
  /** As it is set now, said where it is folded. */
  protected readonly words = computed(() => {
    const knot = this.editor.definition();
    if (!knot) return '';
    const title = this.titles().find(({ value }) => value === knot.titleField)?.says;
    return [
      `One is called ${knot.thing || '—'}`,
      title ? `named by ${title}` : 'named by no field yet',
      knot.start === 'adopt' ? 'begins by adopting what is there' : 'begins by merging',
      ...(knot.owner ? [`${knot.owner} answers for it`] : []),
      ...(knot.labels ?? []),
    ].join(' · ');
  });

  protected set(change: Partial<KnotSettings>, about?: string): void {
    this.editor.edit(setKnot(change), about);
  }
  protected label(text: string): void {
    this.set({ labels: labelsIn(text) });
  }
  protected readonly refusesLabels = (text: string): string | undefined =>
    labelsIn(text).length > mostLabels ? `At most ${mostLabels} labels.` : undefined;
}

/** Labels as they are typed, separated by commas; each once. */
function labelsIn(text: string): string[] {
  const labels = text
    .split(',')
    .map((label) => label.trim())
    .filter((label) => label !== '');
  return [...new Set(labels)];
}
