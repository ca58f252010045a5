import { ChangeDetectionStrategy, Component, computed, effect, ElementRef, inject, input, signal, untracked } from '@angular/core';
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
  template: `
    <div class="page">
      <header><h1>Decisions</h1>
        <nav aria-label="Kinds">
          <a routerLink="/decisions" [class.on]="!kind()">all {{ count(all()) }}</a>
          @for (one of list.value()?.kinds; track one.kind) { <a routerLink="/decisions" [queryParams]="{ kind: one.kind }" [class.on]="kind() === one.kind">{{ count(one.count) }} {{ kindWords(one.kind, one.count) }}</a> }
        </nav>
      </header>
      <ak-state [of]="list" />
      @if (list.value(); as loaded) {
        <div class="scroll" akListKeys>
          @for (one of loaded.decisions; track one.id; let index = $index) {
            <article>
              <h2><button type="button" data-item [attr.data-decision-item]="one.id" [attr.aria-expanded]="opened() === one.id" (click)="opened.set(one.id)" (focus)="opened.set(one.id)">{{ one.title ?? (one.key ? 'Record ' + one.key : one.knotName) }}</button> <small>{{ kindWords(one.kind, 1) }}</small></h2>
              <ak-decision-panel [decision]="one" [members]="membersOf(one)" [opened]="opened" (decided)="next(index)" />
            </article>
          } @empty { <p class="empty">Nothing waits for you. Held fields, duplicates, rejected records and refused writes will be listed here, with what can be done.</p> }
          @if (loaded.next; as next) { <p class="pad"><a mat-stroked-button routerLink="/decisions" [queryParams]="{ kind: kind(), offset: next }">Show the next {{ count(loaded.total - +next) }}</a></p> }
        </div>
      }
    </div>
  `,
  styles: `
    nav { display: flex; gap: 14px; flex-wrap: wrap; } nav a { text-decoration: none; color: var(--ink-2); } nav a.on { color: var(--ink); font-weight: 650; border-bottom: 2px solid var(--petrol); }
    .scroll { overflow: auto; } article { padding: 10px 22px; border-bottom: 1px solid var(--hair-2); } article:focus-within { background: var(--petrol-tint); }
    h2 { margin: 0 0 4px; } h2 button { border: 0; background: none; padding: 0; min-height: 24px; font: inherit; color: inherit; cursor: pointer; } h2 small { font-weight: 400; margin-left: 6px; }
  `,
})
export class DecisionsView {
  /** From the address. */
  readonly kind = input<string>();
  readonly offset = input<string>();
  readonly #api = inject(Api);
  readonly #question = computed(() => ({ ...(this.kind() ? { kind: this.kind() as string } : {}), ...(this.offset() ? { offset: this.offset() as string } : {}) }));
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
      const wanted = decisions.find(({ id }) => id === this.#wanted) ?? (decisions.some(({ id }) => id === opened) ? undefined : decisions[0]);
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
