import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { FirstLoad, FirstLoadMember, Run } from '@anchor-knot/contracts';
import { SessionService } from '../../../api/session';
import { Pennant } from '../../../pennant/pennant';
import { tableParts } from '../../../tables/rows';
import { AgoTime } from '../../../words/agoTime';
import { count, listed, plural, runSentence } from '../../../words/sentences';
import { StartRun } from '../../runs/startRun';

const columns = [
  { id: 'read', says: 'Read' },
  { id: 'create', says: 'Created' },
  { id: 'update', says: 'Updated' },
  { id: 'remove', says: 'Removed' },
  { id: 'waits', says: 'Waits' },
] as const;
type Column = (typeof columns)[number]['id'];

/** One knot of a first set-up: in which directions it goes, what it would do, what it has done. */
@Component({
  selector: 'ak-first-load-step',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, MatButtonModule, RouterLink, Pennant, AgoTime],
  templateUrl: './firstLoadStep.html',
  styleUrl: './firstLoadStep.scss',
})
export class FirstLoadStep {
  readonly step = input.required<FirstLoad>();
  /** The knots before it that are not loaded yet, by name. */
  readonly missing = input.required<readonly string[]>();
  /** What knots are called. */
  readonly names = input.required<ReadonlyMap<string, string>>();
  protected readonly session = inject(SessionService);
  readonly #runs = inject(StartRun);
  protected readonly listed = listed;
  protected readonly count = count;
  protected readonly plural = plural;
  protected readonly numbers = columns;
  /** The newer one of what was tried and what was done: the first load, or the try at it that failed. */
  protected readonly told = computed((): Run | undefined => {
    const { dryRun, lastRun, firstRun } = this.step();
    const ended = [dryRun, firstRun ?? lastRun].filter((run) => run !== null && run.endedAt !== null) as Run[];
    return ended.toSorted((one, other) => (one.startedAt < other.startedAt ? 1 : -1))[0];
  });
  protected readonly sentence = computed(() => {
    const run = this.step().openRun ?? this.told();
    return run ? runSentence(run, this.step().members) : '';
  });
  protected readonly before = computed(() => listed(this.step().after.map((id) => this.names().get(id) ?? id)));
  protected readonly rows = computed(() => {
    const run = this.told();
    return this.step().members.map((member) => {
      const tally = run?.progress?.tally[member.id];
      return {
        ...member,
        way: wayOf(member),
        read: tally?.read,
        create: tally?.create,
        update: tally && tally.update + tally['write back'],
        remove: tally && tally.archive + tally.delete,
        waits: tally && tally.held + tally.waiting + tally.rejected,
      };
    });
  });

  protected numberOf(row: ReturnType<typeof this.rows>[number], column: Column): string {
    const number = row[column];
    return number === undefined ? '' : count(number);
  }

  protected start(kind: 'run' | 'dry run'): void {
    // It goes on in the background: the step says how far it is.
    this.#runs.start(this.step().knot, kind, {}, () => undefined);
  }
}

const mayWords = { create: 'created', update: 'updated', archive: 'archived', delete: 'deleted' } as const;

function wayOf({ gives, takes, may }: FirstLoadMember): string {
  const written = takes ? `records are ${listed(may.map((kind) => mayWords[kind]))} there` : '';
  return [gives ? 'gives values' : '', written].filter(Boolean).join('; ') || 'takes no part yet';
}
