import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { type KeyRule, setKeyRules } from '../editor/draftEdits';
import { GoLive } from '../editor/goLive';
import { count, plural } from '../../../words/sentences';
import { KnotEditor } from '../editor/knotEditor';
import { Surveys } from '../editor/surveys';
import { EvidenceEditor } from './evidenceEditor';
import { IdentityTabs } from './identityTabs';

const comparisons: readonly { readonly value: KeyRule['fields'][number]['normalise']; readonly says: string }[] = [
  { value: 'exact', says: 'as it is' },
  { value: 'text', says: 'case and blanks do not matter' },
  { value: 'email', says: 'case and blanks do not matter, as an email' },
  { value: 'digits', says: 'only the digits' },
];

/** When two records are the same thing: key rules, tried in their order, then weighed evidence for what they leave. */
@Component({
  selector: 'ak-knot-identity',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, GoLive, EvidenceEditor, IdentityTabs],
  template: `
    <div class="body">
      <div class="scroll">
        <ak-identity-tabs [knot]="editor.definition()?.id ?? ''" />
        <table class="plain">
          <thead><tr><th scope="col" class="number">Order</th><th scope="col">Key rule</th><th scope="col">Fields and how they are compared</th><th scope="col">Of all records</th><th scope="col"></th></tr></thead>
          <tbody>
            @for (rule of rules(); track $index; let index = $index) {
              <tr>
                <td class="number">{{ index + 1 }}</td>
                <th scope="row"><input maxlength="200" [attr.aria-label]="'Name of rule ' + (index + 1)" [readOnly]="!editor.mayEdit()" [value]="rule.name" (change)="name(index, $any($event.target).value)" /></th>
                <td>
                  @for (one of rule.fields; track $index; let at = $index) {
                    <div class="line">
                      <select [attr.aria-label]="'Field ' + (at + 1) + ' of rule ' + (index + 1)" [disabled]="!editor.mayEdit()" (change)="part(index, at, { field: $any($event.target).value })">@for (field of editor.definition()?.fields ?? []; track field.id) {<option [value]="field.id" [selected]="field.id === one.field">{{ field.name }}</option>}</select>
                      <select [attr.aria-label]="'How field ' + (at + 1) + ' of rule ' + (index + 1) + ' is compared'" [disabled]="!editor.mayEdit()" (change)="part(index, at, { normalise: $any($event.target).value })">@for (how of comparisons; track how.value) {<option [value]="how.value" [selected]="how.value === one.normalise">{{ how.says }}</option>}</select>
                      @if (editor.mayEdit() && rule.fields.length > 1) { <button type="button" class="link" (click)="dropPart(index, at)">remove</button> }
                    </div>
                  }
                </td>
                <td>@if (found(index); as one) {ties {{ count(one.ties) }}@if (one.repeated > 0) {, <span class="waits">{{ plural(one.repeated, 'record') }} more than once</span>}<small class="block">{{ count(one.without) }} have no such key</small><small class="block value examples" [title]="one.examples.join(' · ')">{{ one.examples.slice(0, 2).join(' · ') }}</small>} @else {<span class="quiet">not tried yet</span>}</td>
                <td>@if (editor.mayEdit()) {<span class="links"><button type="button" class="link" [disabled]="index === 0" (click)="move(index)">earlier</button> <button type="button" class="link" (click)="addPart(index)">and a field</button> <button type="button" class="link" (click)="drop(index)">remove</button></span>}</td>
              </tr>
            } @empty { <tr><td colspan="5" class="quiet">No key rule: records are put together by evidence alone, if at all.</td></tr> }
          </tbody>
        </table>
        @if (editor.mayEdit()) { <p class="pad"><button mat-stroked-button type="button" [disabled]="(editor.definition()?.fields?.length ?? 0) === 0" (click)="add()">Add a key rule</button></p> }
        <p class="pad small">Records with equal keys are tied to one anchor. Two records of one system with the same key are reported as duplicates and never tied by themselves. A record keeps its tie when its key changes later.</p>
        <ak-evidence-editor />
        @if (survey(); as all) { <p class="pad sum">Of all records that take part, <b>{{ plural(all.together, 'thing') }}</b> would be tied in two or more systems, <b>{{ count(all.alone) }}</b> stand alone, and <b [class.waits]="all.waiting > 0">{{ plural(all.waiting, 'record') }}</b> would wait for a person. Nothing was written.</p> }
      </div>
      <aside><ak-go-live /></aside>
    </div>
  `,
  styles: `:host { display: block; height: 100%; } .body { height: 100%; } .line { display: flex; gap: 8px; margin-bottom: 3px; align-items: center; } .line select { max-width: 165px; } .line select + select { max-width: 215px; } .block { display: block; } .sum { max-width: 90ch; } .examples { max-width: 190px; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; } td .link { white-space: nowrap; } .links { display: flex; gap: 10px; } th input { width: 130px; } p.pad { margin: 0; padding-block: 8px; }`,
})
export class KnotIdentity {
  protected readonly editor = inject(KnotEditor);
  protected readonly comparisons = comparisons;
  readonly #surveys = inject(Surveys);
  protected readonly count = count;
  protected readonly plural = plural;
  /** What all records gave, as long as it was tried with the rules and fields as they are now. */
  protected readonly survey = computed(() => (this.#surveys.isCurrent() ? this.#surveys.last()?.identity : undefined));
  protected readonly rules = (): readonly KeyRule[] => this.editor.definition()?.keyRules ?? [];

  #set(rules: readonly KeyRule[]): void {
    this.editor.edit(setKeyRules(rules));
  }
  #change(index: number, change: (rule: KeyRule) => KeyRule): void {
    this.#set(this.rules().map((rule, at) => (at === index ? change(rule) : rule)));
  }
  #first() {
    const fields = this.editor.definition()?.fields ?? [];
    return fields.find(({ type }) => type === 'email') ?? fields[0];
  }
  /** Rules without a field are not tried. */
  protected found(index: number) {
    const tried = this.rules().filter((rule) => rule.fields.length > 0);
    const place = tried.indexOf(this.rules()[index] as KeyRule);
    return place < 0 ? undefined : this.survey()?.rules[place];
  }
  protected name(index: number, name: string): void {
    if (name.trim() !== '') this.#change(index, (rule) => ({ ...rule, name: name.trim() }));
  }
  protected part(index: number, at: number, change: Partial<KeyRule['fields'][number]>): void {
    this.#change(index, (rule) => ({ ...rule, fields: rule.fields.map((one, place) => (place === at ? { ...one, ...change } : one)) }));
  }
  protected addPart(index: number): void {
    const field = this.#first();
    if (field) this.#change(index, (rule) => ({ ...rule, fields: [...rule.fields, { field: field.id, normalise: 'text' }] }));
  }
  protected dropPart(index: number, at: number): void {
    this.#change(index, (rule) => ({ ...rule, fields: rule.fields.filter((_, place) => place !== at) }));
  }
  protected move(index: number): void {
    const rules = [...this.rules()];
    const [rule] = rules.splice(index, 1);
    if (rule) this.#set([...rules.slice(0, index - 1), rule, ...rules.slice(index - 1)]);
  }
  protected drop(index: number): void {
    this.#set(this.rules().filter((_, at) => at !== index));
  }
  protected add(): void {
    const field = this.#first();
    if (field) this.#set([...this.rules(), { name: field.name, fields: [{ field: field.id, normalise: field.type === 'email' ? 'email' : 'text' }] }]);
  }
}
