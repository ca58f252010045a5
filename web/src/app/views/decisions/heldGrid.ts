import { ChangeDetectionStrategy, Component, computed, input } from '@angular/core';
import type { Decision, MemberSummary } from '@anchor-knot/contracts';
import { type CellTone, type GridMember, type GridRow, RecordGrid } from '../../grid/recordGrid';
import { Value } from '../../values/value';
import { AgoTime } from '../../words/agoTime';

type Held = Extract<Decision, { kind: 'held' }>;
type Candidate = Held['detail']['candidates'][number];

/** A held field in the grid: what was agreed, and who gave what instead, when. */
@Component({
  selector: 'ak-held-grid',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RecordGrid, Value, AgoTime],
  templateUrl: './heldGrid.html',
  styles: `:host { display: block; overflow-x: auto; margin-bottom: 8px; }`,
  // It scrolls where there is no room: the keyboard reaches what is out of sight.
  host: { tabindex: '0', role: 'group', 'aria-label': 'The field, as each system has it' },
})
export class HeldGrid {
  readonly decision = input.required<Held>();
  readonly members = input.required<readonly MemberSummary[]>();
  protected readonly rows = computed((): GridRow[] => {
    const { field, fieldName } = this.decision();
    return [{ id: field ?? '', name: fieldName ?? field ?? '' }];
  });
  protected readonly columns = computed((): GridMember[] =>
    this.members()
      .filter(({ id }) => this.decision().writes.includes(id) || this.candidateOf(id))
      .map((member) => ({ ...member, hint: member.object })),
  );
  protected readonly tone = computed(
    () =>
      (_: GridRow, { id }: GridMember): CellTone =>
        this.candidateOf(id) ? 'waits' : 'plain',
  );

  protected candidateOf(member: string): Candidate | undefined {
    return this.decision().detail.candidates.find(({ givers }) =>
      givers.some((giver) => giver.kind === 'member' && giver.member === member),
    );
  }
  protected readonly instant = (at: number): string => new Date(at).toISOString();
}
