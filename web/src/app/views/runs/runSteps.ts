import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { CallKind, MemberSummary, Run } from '@anchor-knot/contracts';
import { Fold } from '../../fields/fold';
import { Pennant } from '../../pennant/pennant';
import { tableParts } from '../../tables/rows';
import { count, phaseWords, plural } from '../../words/sentences';

const kindWords: Readonly<Record<CallKind, readonly [one: string, many: string]>> = {
  page: ['page read', 'pages read'],
  record: ['record read by its key', 'records read by their keys'],
  search: ['search', 'searches'],
  write: ['write', 'writes'],
};

interface CallRow {
  readonly id: string;
  readonly member: MemberSummary;
  readonly what: string;
  readonly failed: number;
  readonly took: string;
  readonly longest: string;
}

/** What a run did, one after the other, and what it asked of systems: how often, and how long that took. */
@Component({
  selector: 'ak-run-steps',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, Fold, Pennant],
  templateUrl: './runSteps.html',
  styleUrl: './runSteps.scss',
})
export class RunSteps {
  readonly progress = input.required<NonNullable<Run['progress']>>();
  readonly members = input.required<readonly MemberSummary[]>();
  protected readonly phases = phaseWords;
  protected readonly span = span;
  protected readonly steps = computed(() => this.progress().steps ?? []);
  protected readonly rows = computed((): readonly CallRow[] => {
    const calls = this.progress().calls ?? {};
    return this.members().flatMap((member) =>
      Object.entries(calls[member.id] ?? {}).map(([kind, counted]): CallRow => {
        const [one, many] = kindWords[kind as CallKind];
        return {
          id: `${member.id} ${kind}`,
          member,
          what: plural(counted.count, one, many),
          failed: counted.failed,
          took: span(counted.ms),
          longest: span(counted.longestMs),
        };
      }),
    );
  });
  protected readonly title = computed(() => {
    const calls = Object.values(this.progress().calls ?? {}).flatMap((kinds) => Object.values(kinds));
    const asked = calls.reduce((sum, { count: each }) => sum + each, 0);
    const took = this.steps().reduce((sum, { ms }) => sum + ms, 0);
    return `What it did: ${span(took)}, ${plural(asked, 'call')} of systems`;
  });
  protected readonly count = count;
}

/** A time that something took, as precise as it matters. */
export function span(milliseconds: number): string {
  if (milliseconds < 1000) return `${Math.round(milliseconds)} ms`;
  if (milliseconds < 60_000) return `${(milliseconds / 1000).toFixed(1)} s`;
  const minutes = Math.floor(milliseconds / 60_000);
  return `${count(minutes)} min ${Math.round((milliseconds % 60_000) / 1000)} s`;
}
