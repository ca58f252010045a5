import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { Router } from '@angular/router';
import type { Finding } from '@anchor-knot/core';
import { count, plural } from '../../../words/sentences';
import { KnotEditor } from './knotEditor';
import { Surveys } from './surveys';
import { ProblemText } from '../../problem';
import { AgoTime } from '../../../words/agoTime';

const mostShown = 40;

/** What keeps this knot from going live, and what would surprise: always at the side, each leading to its place. */
@Component({
  selector: 'ak-go-live',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ProblemText, MatButtonModule, AgoTime],
  templateUrl: './goLive.html',
  styleUrl: './goLive.scss',
})
export class GoLive {
  readonly #router = inject(Router);
  protected readonly editor = inject(KnotEditor);
  protected readonly surveys = inject(Surveys);
  protected readonly looked = computed(() =>
    Object.values(this.surveys.last()?.members ?? {}).reduce((sum, { records }) => sum + records, 0),
  );
  protected readonly plural = plural;
  protected readonly stops = computed(() => this.editor.findings().filter(({ kind }) => kind === 'stops'));
  protected readonly warns = computed(() => this.editor.findings().filter(({ kind }) => kind === 'warns'));
  protected readonly shown = computed(() => [...this.stops(), ...this.warns()].slice(0, mostShown));
  protected readonly more = computed(() => this.stops().length + this.warns().length - this.shown().length);

  /** Leads to the place of a finding. */
  protected go(at: string): void {
    const [part, id, , member] = at.split('.');
    const definition = this.editor.definition();
    const sections: Readonly<Record<string, string>> = {
      members: 'members',
      keyRules: 'identity',
      evidence: 'identity',
      checks: 'checks',
      crosswalks: 'crosswalks',
    };
    const isMember = definition?.members.some((one) => one.id === member) === true;
    const queryParams = part === 'fields' ? { field: id ?? null, member: isMember ? member : null } : {};
    void this.#router.navigate(['/knots', definition?.id ?? '', sections[part ?? ''] ?? 'fields'], { queryParams });
  }

  protected progressWords(now: NonNullable<ReturnType<Surveys['progress']>>): string {
    return 'member' in now
      ? `${this.systemName(now.member)}: ${plural(now.records, 'record')} read`
      : `${count(now.compared)} of ${plural(now.of, 'record')} compared`;
  }

  protected systemName(member: string): string {
    return this.editor.members().find(({ id }) => id === member)?.systemName ?? member;
  }

  /** The place as a person knows it: a field's name rather than its path. */
  protected place({ at }: Finding): string {
    const [part, id, , member] = at.split('.');
    const definition = this.editor.definition();
    if (part === 'fields' && id !== undefined) {
      const name = definition?.fields.find((field) => field.id === id)?.name ?? id;
      return member === undefined || !definition?.members.some((one) => one.id === member)
        ? name
        : `${name}, ${this.systemName(member)}`;
    }
    const names: Readonly<Record<string, string>> = {
      members: 'Members',
      keyRules: 'Identity',
      evidence: 'Identity',
      checks: 'Checks',
      crosswalks: 'Crosswalks',
      titleField: 'Name of an anchor',
    };
    if (part === 'checks' && id !== undefined)
      return `Checks: ${definition?.checks.find((check) => check.id === id)?.says ?? id}`;
    if (part === 'members' && id !== undefined) return `Members: ${this.systemName(id)}`;
    return id === undefined ? (names[part ?? ''] ?? at) : `${names[part ?? ''] ?? part}: ${id}`;
  }
}
