import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import type { KnotDefinition, KnotView } from '@anchor-knot/contracts';
import { KnotsApi } from '../../api/knotsApi';
import { Asking } from '../../api/asking';
import { ExactTimePipe } from '../../words/times';
import { compareDefinitions } from './editor/compareDefinitions';
import { KnotEditor } from './editor/knotEditor';
import { ProblemText } from '../problem';
import { tableParts } from '../../tables/rows';

interface HistoryRow {
  /** None of the draft. */
  readonly version: number | undefined;
  readonly at: string | null;
  readonly by: string | null;
  readonly note: string;
}

/** The draft and the versions of the definition: what differs, and the way back to an older one. */
@Component({
  selector: 'ak-knot-history',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, ProblemText, ExactTimePipe, MatButtonModule],
  templateUrl: './knotHistory.html',
  styles: `h2 { padding-bottom: 6px; }`,
})
export class KnotHistory {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #api = inject(KnotsApi);
  protected readonly asking = new Asking();
  protected readonly shown = signal<
    { says: string; before: KnotDefinition; after: KnotDefinition | undefined } | undefined
  >(undefined);
  /** The draft, where there is one, and the versions: the newest first. */
  protected readonly rows = computed((): readonly HistoryRow[] => {
    const draft = this.editor.draft();
    const versions = this.knot().versions.map(({ version, madeAt, madeBy, note }): HistoryRow => ({
      version,
      at: madeAt,
      by: madeBy,
      note,
    }));
    if (!this.editor.hasDraft()) return versions;
    return [{ version: undefined, at: draft?.changedAt ?? null, by: draft?.changedBy ?? null, note: '' }, ...versions];
  });
  protected readonly changes = computed(() => {
    const [shown, draft] = [this.shown(), this.editor.definition()];
    const after = shown?.after ?? draft;
    return shown && after ? compareDefinitions(shown.before, after) : [];
  });

  /** @param after the draft, when left out */
  protected compare(before: number, after: number | undefined): void {
    this.asking.ask(this.#api.version(this.knot().id, before), (older) => {
      if (after === undefined)
        this.shown.set({ says: `The draft, compared with version ${before}`, before: older, after: undefined });
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
