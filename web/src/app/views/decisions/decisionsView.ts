import {
  ChangeDetectionStrategy,
  Component,
  computed,
  effect,
  ElementRef,
  inject,
  input,
  signal,
  untracked,
} from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { Decision, MemberSummary } from '@anchor-knot/contracts';
import { filter, fromEvent } from 'rxjs';
import { Api } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { isTyping } from '../../shell/shortcuts';
import { count, kindWords } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { DecisionPanel } from './decisionPanel';
import { UndoDecision } from './undoDecision';

/** What waits for a person, in the order that it matters? */
@Component({
  selector: 'ak-decisions-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, DecisionPanel, ListKeys, State],
  templateUrl: './decisionsView.html',
  styleUrl: './decisionsView.scss',
})
export class DecisionsView {
  /** From the address. */
  readonly kind = input<string>();
  readonly after = input<string>();
  readonly #api = inject(Api);
  readonly #question = computed(() => ({
    ...(this.kind() ? { kind: this.kind() as string } : {}),
    ...(this.after() ? { after: this.after() as string } : {}),
  }));
  protected readonly list = load(this.#question, (query) => this.#api.decisions(query), inject(LiveEvents).ends);
  protected readonly all = computed(() => this.list.value()?.kinds.reduce((sum, one) => sum + one.count, 0) ?? 0);
  /** The decision that digits choose in. */
  protected readonly opened = signal('');
  #wanted: string | undefined;
  readonly #host = inject<ElementRef<HTMLElement>>(ElementRef).nativeElement;
  protected readonly kindWords = kindWords;
  protected readonly count = count;

  constructor() {
    const undo = inject(UndoDecision);
    fromEvent<KeyboardEvent>(document, 'keydown')
      .pipe(
        filter((event) => event.key === 'u' && !isTyping(event)),
        takeUntilDestroyed(),
      )
      .subscribe(() => undo.undo());
    undo.undone.pipe(takeUntilDestroyed()).subscribe((decision) => {
      this.#wanted = decision;
      this.list.reload();
    });
    // The first one is open from the start; after a decision the next one is, as soon as the list is there again.
    effect(() => {
      const decisions = this.list.value()?.decisions ?? [];
      const opened = untracked(this.opened);
      const wanted =
        decisions.find(({ id }) => id === this.#wanted) ??
        (decisions.some(({ id }) => id === opened) ? undefined : decisions[0]);
      if (!wanted) return;
      this.opened.set(wanted.id);
      if (this.#wanted === undefined) return;
      this.#wanted = undefined;
      setTimeout(() => this.#host.querySelector<HTMLElement>(`[data-decision-item="${wanted.id}"]`)?.focus());
    });
  }

  /** Another one that waits, when the one at a place is settled. */
  protected next(index: number): void {
    const decisions = this.list.value()?.decisions ?? [];
    this.#wanted = (decisions[index + 1] ?? decisions[index - 1])?.id;
    this.list.reload();
  }
  protected membersOf(decision: Decision): readonly MemberSummary[] {
    return this.list.value()?.members[decision.knot] ?? [];
  }
}
