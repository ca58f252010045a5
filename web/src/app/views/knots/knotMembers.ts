import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { KnotView } from '@anchor-knot/contracts';
import { of } from 'rxjs';
import { Api, problemOf } from '../../api/api';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { Pennant } from '../../pennant/pennant';
import { count } from '../../words/sentences';
import { addMember, type Member, moveMember, removeMember, setMember } from './editor/draftEdits';
import { GoLive } from './editor/goLive';
import { KnotEditor } from './editor/knotEditor';
import { Surveys } from './editor/surveys';
import { MemberFilter } from './editor/memberFilter';
import { recordLists } from './records/recordLists';

/** Which objects take part, which of their records, and what we may do there. */
@Component({
  selector: 'ak-knot-members',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, RouterLink, Pennant, GoLive, MemberFilter],
  templateUrl: './knotMembers.html',
  styleUrl: './knotMembers.scss',
})
export class KnotMembers {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #api = inject(Api);
  readonly #surveys = inject(Surveys);
  readonly #inForce = computed(() => ({ id: this.knot().id, version: this.knot().version }));
  protected readonly accounts = load(
    this.#inForce,
    ({ id, version }) => (version === 0 ? of({ members: [] }) : this.#api.accounts(id)),
    inject(LiveEvents).ends,
  );
  protected readonly count = count;
  protected readonly moveMember = moveMember;
  protected readonly removeMember = removeMember;
  protected readonly busy = signal(false);
  protected readonly problem = signal('');
  protected readonly rights = ['create', 'update', 'archive', 'delete'] as const;
  protected readonly deletions = [
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
  protected objects(): { value: string; says: string }[] {
    return this.editor
      .systems()
      .flatMap(({ id, name, objects }) =>
        objects.map((object) => ({ value: JSON.stringify([id, object]), says: `${name}: ${object}` })),
      );
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
  protected guard(member: Member, name: keyof Member['guards'], text: string): void {
    const number = Number(text.trim());
    const isRight =
      text.trim() !== '' && Number.isInteger(number) && number >= 0 && (name !== 'updatesPercent' || number <= 100);
    const rest = Object.fromEntries(Object.entries(member.guards).filter(([key]) => key !== name));
    this.set(member.id, { guards: isRight ? { ...rest, [name]: number } : rest });
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
  protected replace(member: Member, chosen: string): void {
    if (chosen === '') return;
    const [system, object] = JSON.parse(chosen) as [string, string];
    this.set(member.id, { system, object });
    this.editor.readWhenSaved();
  }
  protected add(chosen: string): void {
    if (chosen === '') return;
    const [system, object] = JSON.parse(chosen) as [string, string];
    this.busy.set(true);
    this.problem.set('');
    this.#api.system(system).subscribe({
      next: ({ summary, objects }) => {
        this.busy.set(false);
        const may = objects.find(({ name }) => name === object)?.may ?? [];
        const create = may.includes('create');
        this.editor.edit(
          addMember(
            {
              system,
              object,
              may: { create, update: may.includes('update'), archive: false, delete: false },
              startsAnchors: create,
              required: [],
              guards: {},
            },
            summary.name,
          ),
        );
        this.editor.readWhenSaved();
      },
      error: (error: unknown) => {
        this.busy.set(false);
        this.problem.set(problemOf(error).says);
      },
    });
  }
}
