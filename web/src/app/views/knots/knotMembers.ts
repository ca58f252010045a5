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
  template: `
    <div class="body">
      <div class="scroll">
        <table class="plain">
          <thead><tr><th scope="col">Member</th><th scope="col" class="number">Records</th><th scope="col">Which take part</th><th scope="col">What we may do there</th><th scope="col">Guards of a run</th></tr></thead>
          <tbody>
            @for (member of editor.definition()?.members ?? []; track member.id; let index = $index) {
              <tr>
                <th scope="row">
                  @if (summary(member.id); as one) { <ak-pennant [settings]="one.pennant" [name]="one.systemName" [shown]="true" /> }
                  <small class="block">{{ member.object }}@if (ties(member.id) !== undefined) { · {{ count(ties(member.id) ?? 0) }} tied}</small>
                  @if (unknown(member)) {
                    <p class="wrong small">There is no such object here.</p>
                    <select [attr.aria-label]="'Another object for ' + member.id" #other (change)="replace(member, other.value)"><option value="">choose another one…</option>@for (one of objects(); track one.value) {<option [value]="one.value">{{ one.says }}</option>}</select>
                  }
                  @if (editor.mayEdit()) {
                    <span class="acts"><button type="button" class="link" [disabled]="index === 0" (click)="editor.edit(moveMember(member.id, -1))">earlier</button><button type="button" class="link" [disabled]="index === (editor.definition()?.members?.length ?? 0) - 1" (click)="editor.edit(moveMember(member.id, 1))">later</button><button type="button" class="link" (click)="editor.edit(removeMember(member.id))">take out</button></span>
                  }
                </th>
                <td class="number">{{ records(member.id) }}@for (list of accountOf(member.id); track list.id) {<small class="block nowrap"><a [routerLink]="['/knots', knot().id, 'records']" [queryParams]="{ member: member.id, list: list.id }">{{ count(list.records) }} {{ list.counted }}</a></small>}</td>
                <td class="filter"><ak-member-filter [member]="member" /></td>
                <td>
                  @for (right of rights; track right) {
                    @if (member.may[right] || systemMay(member.id, right)) {<label><input type="checkbox" [disabled]="!editor.mayEdit()" [checked]="member.may[right] === true" (change)="allow(member, right, $any($event.target).checked)" /> {{ right }} records</label>}
                  }
                  @if (impossible(member) !== '') { <small class="block">{{ impossible(member) }}</small> }
                  <label><input type="checkbox" [disabled]="!editor.mayEdit()" [checked]="member.startsAnchors" (change)="set(member.id, { startsAnchors: $any($event.target).checked })" /> new things may start here</label>
                  @if (member.may.create) {
                    <details><summary>{{ member.onlyFrom ? 'created only when begun in ' + namesOf(member.onlyFrom) : 'created wherever things begin' }}</summary>
                      <small class="block">Only things that began in</small>
                      @for (other of othersOf(member.id); track other.id) {<label><input type="checkbox" [disabled]="!editor.mayEdit()" [checked]="member.onlyFrom?.includes(other.id) === true" (change)="onlyFrom(member, other.id, $any($event.target).checked)" /> {{ other.systemName }}</label>}
                    </details>
                  }
                </td>
                <td>
                  <label>at most <input class="narrow" inputmode="numeric" [attr.aria-label]="'At most so many creates in ' + member.id" [readOnly]="!editor.mayEdit()" [value]="member.guards.creates ?? ''" (change)="guard(member, 'creates', $any($event.target).value)" /> creates</label>
                  <label>at most <input class="narrow" inputmode="numeric" [attr.aria-label]="'At most so many updates in ' + member.id" [readOnly]="!editor.mayEdit()" [value]="member.guards.updates ?? ''" (change)="guard(member, 'updates', $any($event.target).value)" /> updates</label>
                  <label>at most <input class="narrow" inputmode="numeric" [attr.aria-label]="'At most so many percent updated in ' + member.id" [readOnly]="!editor.mayEdit()" [value]="member.guards.updatesPercent ?? ''" (change)="guard(member, 'updatesPercent', $any($event.target).value)" /> % updates</label>
                  @if (member.may.archive || member.may.delete) { <label>at most <input class="narrow" inputmode="numeric" [attr.aria-label]="'At most so many archived or deleted in ' + member.id" [readOnly]="!editor.mayEdit()" [value]="member.guards.removals ?? ''" (change)="guard(member, 'removals', $any($event.target).value)" /> removals</label> }
                  <label class="stack">when one is deleted here<select [attr.aria-label]="'When a record is deleted in ' + member.id" [disabled]="!editor.mayEdit()" (change)="set(member.id, { whenDeleted: $any($event.target).value })">@for (one of deletions; track one.value) {<option [value]="one.value" [selected]="(member.whenDeleted ?? 'nothing') === one.value">{{ one.says }}</option>}</select></label>
                </td>
              </tr>
            }
          </tbody>
        </table>
        @if (editor.mayEdit()) { <p class="pad"><label>Add a member <select #adding [disabled]="busy()" (change)="add(adding.value); adding.value = ''"><option value="">choose an object…</option>@for (one of objects(); track one.value) {<option [value]="one.value">{{ one.says }}</option>}</select></label>@if (problem()) { <span class="wrong" role="alert"> {{ problem() }}</span> }</p> }
      </div>
      <aside><ak-go-live /></aside>
    </div>
  `,
  styles: `:host { display: block; height: 100%; } .body { height: 100%; } .block { display: block; } .nowrap { white-space: nowrap; font-family: inherit; } .nowrap a { display: inline-block; padding: 5px 0; min-width: 24px; } .acts { display: flex; gap: 10px; } td label { display: block; white-space: nowrap; padding: 2px 0; } summary { cursor: pointer; font-size: 12.5px; color: var(--petrol); } td { max-width: 210px; } .narrow { width: 52px; } .stack { color: var(--ink-2); font-size: 12.5px; margin-top: 4px; } .stack select { display: block; } .filter { min-width: 200px; }`,
})
export class KnotMembers {
  readonly knot = input.required<KnotView>();
  protected readonly editor = inject(KnotEditor);
  readonly #api = inject(Api);
  readonly #surveys = inject(Surveys);
  readonly #inForce = computed(() => ({ id: this.knot().id, version: this.knot().version }));
  protected readonly accounts = load(this.#inForce, ({ id, version }) => (version === 0 ? of({ members: [] }) : this.#api.accounts(id)), inject(LiveEvents).ends);
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
    return account ? recordLists.flatMap((list) => (account[list.id] > 0 ? [{ ...list, records: account[list.id] }] : [])) : [];
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
    return this.editor.systems().flatMap(({ id, name, objects }) => objects.map((object) => ({ value: JSON.stringify([id, object]), says: `${name}: ${object}` })));
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
    const isRight = text.trim() !== '' && Number.isInteger(number) && number >= 0 && (name !== 'updatesPercent' || number <= 100);
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
            { system, object, may: { create, update: may.includes('update'), archive: false, delete: false }, startsAnchors: create, required: [], guards: {} },
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
