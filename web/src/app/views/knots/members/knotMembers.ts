import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatMenuModule } from '@angular/material/menu';
import { RouterLink } from '@angular/router';
import type { KnotView } from '@anchor-knot/contracts';
import { addMember, moveMember, newMember, removeMember, setMember, type Member } from '@anchor-knot/core';
import { of } from 'rxjs';
import { KnotsApi } from '../../../api/knotsApi';
import { SystemsApi } from '../../../api/systemsApi';
import { problemOf } from '../../../api/problems';
import { LiveEvents } from '../../../api/liveEvents';
import { load } from '../../../api/loaded';
import { type Choice, ChoiceField } from '../../../fields/choiceField';
import { Fold } from '../../../fields/fold';
import { OrderActs } from '../../../fields/orderActs';
import { TextField } from '../../../fields/textField';
import { WithSide } from '../../../layout/withSide';
import { Pennant } from '../../../pennant/pennant';
import { count } from '../../../words/sentences';
import { GoLive } from '../editor/goLive';
import { KnotEditor } from '../editor/knotEditor';
import { Surveys } from '../editor/surveys';
import { KnotSettingsForm } from './knotSettings';
import { MemberFilter } from './memberFilter';
import { MemberMore } from './memberMore';
import { Outcomes } from './outcomes';
import { recordLists } from '../records/recordLists';
import { tableParts } from '../../../tables/rows';

interface ConnectedObject {
  readonly system: string;
  readonly object: string;
  readonly says: string;
}

interface Guard {
  readonly name: keyof Member['guards'];
  readonly says: string;
  readonly refuses: (text: string) => string | undefined;
}

const notWhole = (text: string): string | undefined =>
  /^\d{1,9}$/.test(text.trim()) ? undefined : 'Use a whole number.';
const noPercentage = (text: string): string | undefined =>
  /^(100|\d{1,2})$/.test(text.trim()) ? undefined : 'Use 0 to 100.';
const guards: readonly Guard[] = [
  { name: 'creates', says: 'creates', refuses: notWhole },
  { name: 'updates', says: 'updates', refuses: notWhole },
  { name: 'updatesPercent', says: '% updates', refuses: noPercentage },
  { name: 'removals', says: 'removals', refuses: notWhole },
];

/** Which objects take part, which of their records, and what we may do there. */
@Component({
  selector: 'ak-knot-members',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    ...tableParts,
    WithSide,
    MatButtonModule,
    MatCheckboxModule,
    MatMenuModule,
    RouterLink,
    ChoiceField,
    Fold,
    OrderActs,
    GoLive,
    KnotSettingsForm,
    MemberFilter,
    MemberMore,
    Outcomes,
    Pennant,
    TextField,
  ],
  templateUrl: './knotMembers.html',
  styleUrl: './knotMembers.scss',
})
export class KnotMembers {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #knotsApi = inject(KnotsApi);
  readonly #systemsApi = inject(SystemsApi);
  readonly #surveys = inject(Surveys);
  readonly #inForce = computed(() => ({ id: this.knot().id, version: this.knot().version }));
  protected readonly accounts = load(
    this.#inForce,
    ({ id, version }) => (version === 0 ? of({ members: [] }) : this.#knotsApi.accounts(id)),
    inject(LiveEvents).ends,
  );
  protected readonly count = count;
  protected readonly moveMember = moveMember;
  protected readonly orderWords = ['earlier', 'later', 'take out'] as const;
  protected readonly removeMember = removeMember;
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  protected readonly rights = ['create', 'update', 'archive', 'delete'] as const;
  protected readonly deletions: readonly Choice<NonNullable<Member['whenDeleted']>>[] = [
    { value: 'nothing', says: 'the others stay' },
    { value: 'archive', says: 'archive the others' },
    { value: 'delete', says: 'delete the others' },
    { value: 'ask', says: 'ask me' },
  ];

  /** The records that are not tied, by the list that they are in. */
  protected accountOf(id: string) {
    const account = this.accounts.value()?.members.find((member) => member.member === id)?.account;
    return account
      ? recordLists.flatMap((list) => (account[list.id] > 0 ? [{ ...list, records: account[list.id] }] : []))
      : [];
  }
  protected summary(id: string) {
    return this.editor.members().find((member) => member.id === id);
  }
  protected ties(id: string): number | undefined {
    return this.knot().version === 0 ? undefined : this.knot().members.find((member) => member.id === id)?.ties;
  }
  protected records(id: string): string {
    const counted = this.#surveys.last()?.members[id];
    if (counted) return count(counted.records);
    const read = this.editor.reading()?.members.find((member) => member.id === id);
    return read && read.trouble === null ? count(read.records) : '—';
  }
  protected unknown({ system, object }: Member): boolean {
    const systems = this.editor.systems();
    return systems.length > 0 && !systems.some(({ id, objects }) => id === system && objects.includes(object));
  }
  protected readonly objects = computed((): readonly ConnectedObject[] =>
    this.editor
      .systems()
      .flatMap(({ id, name, objects }) =>
        objects.map((object) => ({ system: id, object, says: `${name}: ${object}` })),
      ),
  );
  /** The limits of a member's runs: those on removals only where something may be removed. */
  protected guardsOf({ may }: Member): readonly Guard[] {
    return guards.filter(({ name }) => name !== 'removals' || may.archive || may.delete);
  }
  /** What the system lets us do; until it was looked at, what is usual. */
  protected systemMay(id: string, right: (typeof this.rights)[number]): boolean {
    const may = this.editor.reading()?.members.find((member) => member.id === id && member.trouble === null)?.may;
    return may ? may.includes(right) : right === 'create' || right === 'update';
  }
  protected impossible({ id, may }: Member): string {
    if (!this.editor.reading()) return '';
    const not = this.rights.filter((right) => !may[right] && !this.systemMay(id, right));
    return not.length === 0 ? '' : `It lets nobody ${not.join(', ').replace(/, ([^,]*)$/, ' or $1')}.`;
  }
  protected allow(member: Member, right: (typeof this.rights)[number], allowed: boolean): void {
    this.set(member.id, { may: { ...member.may, [right]: allowed } });
  }
  protected set(id: string, change: Partial<Member>): void {
    this.editor.edit(setMember(id, change));
  }
  /** @param text a whole number; empty where there is no limit */
  protected limit(member: Member, name: Guard['name'], text: string): void {
    const rest = Object.fromEntries(Object.entries(member.guards).filter(([key]) => key !== name));
    this.set(member.id, { guards: text.trim() === '' ? rest : { ...rest, [name]: Number(text) } });
  }
  protected namesOf(ids: readonly string[]): string {
    return ids.map((id) => this.summary(id)?.systemName ?? id).join(' or ');
  }
  protected othersOf(id: string) {
    return this.editor.members().filter((member) => member.id !== id);
  }
  protected onlyFrom(member: Member, other: string, chosen: boolean): void {
    const now = (member.onlyFrom ?? []).filter((id) => id !== other);
    const next = chosen ? [...now, other] : now;
    this.set(member.id, { onlyFrom: next.length === 0 ? undefined : next });
  }
  protected replace(member: Member, { system, object }: ConnectedObject): void {
    this.set(member.id, { system, object });
    this.editor.readWhenSaved();
  }
  protected add({ system, object }: ConnectedObject): void {
    this.busy.set(true);
    this.problem.set('');
    this.#systemsApi.system(system).subscribe({
      next: ({ summary, objects }) => {
        this.busy.set(false);
        const may = objects.find(({ name }) => name === object)?.may ?? [];
        this.editor.edit(addMember(newMember(system, object, may), summary.name));
        this.editor.readWhenSaved();
      },
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error).says);
      },
    });
  }
}
