import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { KnotDefinition, KnotView } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { ExactTimePipe } from '../../words/times';
import { compareDefinitions } from './editor/compareDefinitions';
import { KnotEditor } from './editor/knotEditor';

/** The draft and the versions of the definition: what differs, and the way back to an older one. */
@Component({
  selector: 'ak-knot-history',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ExactTimePipe, MatButtonModule],
  template: `
    @if (asking.problem(); as problem) { <div class="banner" role="alert"><b>{{ problem.says }}</b> {{ problem.advice }}</div> }
    <table class="plain">
      <thead><tr><th scope="col" class="number">Version</th><th scope="col">When</th><th scope="col">By</th><th scope="col">Note</th><th scope="col"></th></tr></thead>
      <tbody>
        @if (editor.hasDraft()) { <tr><th scope="row" class="number">draft</th><td>@if (editor.draft()?.changedAt; as at) {{{ at | exactTime }}} <small class="waits">not in force</small></td><td>{{ editor.draft()?.changedBy }}</td><td></td><td>@if (knot().version > 0) {<button mat-button type="button" (click)="compare(knot().version, undefined)">Compare with what is in force</button>}</td></tr> }
        @for (version of knot().versions; track version.version) { <tr><th scope="row" class="number">{{ version.version }}</th><td>{{ version.madeAt | exactTime }}@if (version.version === knot().version) {&ngsp;<small class="good">in force</small>}</td><td>{{ version.madeBy }}</td><td>{{ version.note }}</td><td>@if (version.version > 1) {<button mat-button type="button" (click)="compare(version.version - 1, version.version)">What it changed</button>}@if (editor.mayEdit() && version.version !== knot().version) {<button mat-button type="button" (click)="restore(version.version)">Go back to it</button>}</td></tr> } @empty { <tr><td colspan="5" class="quiet">No version was put in force yet.</td></tr> }
      </tbody>
    </table>
    @if (shown(); as now) {
      <h2 class="pad">{{ now.says }}</h2>
      <table class="plain">
        <thead><tr><th scope="col">Where</th><th scope="col">Before</th><th scope="col">After</th></tr></thead>
        <tbody>@for (change of changes(); track change.at) { <tr><th scope="row"><span class="value">{{ change.at }}</span></th><td class="value">{{ change.before ?? '' }}@if (change.kind === 'added') {<span class="quiet">not there</span>}</td><td class="value">{{ change.after ?? '' }}@if (change.kind === 'removed') {<span class="quiet">taken away</span>}</td></tr> } @empty { <tr><td colspan="3" class="quiet">They are the same.</td></tr> }</tbody>
      </table>
    }
  `,
  styles: `h2 { padding-bottom: 6px; }`,
})
export class KnotHistory {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #api = inject(Api);
  protected readonly asking = new Asking();
  protected readonly shown = signal<{ says: string; before: KnotDefinition; after: KnotDefinition | undefined } | undefined>(undefined);
  protected readonly changes = computed(() => {
    const [shown, draft] = [this.shown(), this.editor.definition()];
    const after = shown?.after ?? draft;
    return shown && after ? compareDefinitions(shown.before, after) : [];
  });

  /** @param after the draft, when left out */
  protected compare(before: number, after: number | undefined): void {
    this.asking.ask(this.#api.version(this.knot().id, before), (older) => {
      if (after === undefined) this.shown.set({ says: `The draft, compared with version ${before}`, before: older, after: undefined });
      else
        this.asking.ask(this.#api.version(this.knot().id, after), (newer) =>
          this.shown.set({ says: `Version ${after}, compared with version ${before}`, before: older, after: newer }),
        );
    });
  }
  /** Takes an older version into the draft; it can be undone, and is put in force like any edit. */
  protected restore(version: number): void {
    this.asking.ask(this.#api.version(this.knot().id, version), (definition) => {
      this.editor.edit(() => definition);
      this.shown.set(undefined);
      this.compare(this.knot().version, undefined);
    });
  }
}
