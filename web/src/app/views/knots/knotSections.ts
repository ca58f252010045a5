import { ChangeDetectionStrategy, Component, input } from '@angular/core';
import type { KnotView } from '@anchor-knot/contracts';
import { Pennant } from '../../pennant/pennant';
import { count } from '../../words/sentences';
import { ExactTimePipe } from '../../words/times';

/** Which objects take part, and what we may do there. */
@Component({
  selector: 'ak-knot-members',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Pennant],
  template: `
    <table class="plain">
      <thead><tr><th scope="col">Member</th><th scope="col">Object</th><th scope="col" class="number">Tied</th><th scope="col">Which take part</th><th scope="col">What we may do there</th><th scope="col">Needed to create</th><th scope="col">Guards</th></tr></thead>
      <tbody>@for (member of knot().definition.members; track member.id) { <tr>
        <th scope="row">@if (summary(member.id); as one) {<ak-pennant [settings]="one.pennant" [name]="one.systemName" [shown]="true" />}</th><td>{{ member.object }}</td><td class="number">{{ count(summary(member.id)?.ties ?? 0) }}</td>
        <td>@if (member.filter) {<span class="value">{{ member.filter }}</span>} @else {all records}</td>
        <td>read{{ member.may.create ? ', create' : '' }}{{ member.may.update ? ', update' : '' }}<br /><small>{{ member.startsAnchors ? 'new things may start here' : 'nothing new starts here' }}{{ member.carries ? '; carries our id in ' + member.carries : '' }}</small></td>
        <td>{{ member.required.join(', ') || 'nothing' }}</td>
        <td>{{ guards(member.guards) }}</td>
      </tr> }</tbody>
    </table>
  `,
})
export class KnotMembers {
  readonly knot = input.required<KnotView>();
  protected readonly count = count;
  protected summary(id: string) {
    return this.knot().members.find((member) => member.id === id);
  }
  protected guards({ creates, updates, updatesPercent }: KnotView['definition']['members'][number]['guards']): string {
    const words = [
      creates === undefined ? '' : `at most ${count(creates)} creates`,
      updates === undefined ? '' : `at most ${count(updates)} updates`,
      updatesPercent === undefined ? '' : `at most ${updatesPercent} percent updated`,
    ].filter(Boolean);
    return words.join(', ') || 'none';
  }
}

const normalisations: Readonly<Record<string, string>> = {
  exact: 'as it is',
  text: 'case and blanks do not matter',
  email: 'case and blanks do not matter, as an email',
  digits: 'only the digits',
};

/** When two records are the same thing. */
@Component({
  selector: 'ak-knot-identity',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    <table class="plain">
      <thead><tr><th scope="col" class="number">Order</th><th scope="col">Key rule</th><th scope="col">Fields</th><th scope="col">Compared</th></tr></thead>
      <tbody>@for (rule of knot().definition.keyRules; track rule.name; let index = $index) { <tr><td class="number">{{ index + 1 }}</td><th scope="row"><strong>{{ rule.name }}</strong></th><td>@for (one of rule.fields; track one.field) {{{ name(one.field) }}<br />}</td><td>@for (one of rule.fields; track one.field) {{{ how[one.normalise] }}<br />}</td></tr> }</tbody>
    </table>
    <p class="pad small">Records with equal keys are tied to one anchor. Two records of one system with the same key are reported as duplicates and never tied by themselves. A record keeps its tie when its key changes later.</p>
  `,
})
export class KnotIdentity {
  readonly knot = input.required<KnotView>();
  protected readonly how = normalisations;
  protected name(field: string): string {
    return this.knot().definition.fields.find(({ id }) => id === field)?.name ?? field;
  }
}

/** Rules on a record, and what happens when it fails one. */
@Component({
  selector: 'ak-knot-checks',
  changeDetection: ChangeDetectionStrategy.OnPush,
  template: `
    @if (knot().definition.checks.length === 0) { <p class="empty">No record is checked. Checks are part of the definition.</p> } @else {
      <table class="plain">
        <thead><tr><th scope="col">A record passes when</th><th scope="col">Otherwise it is said</th><th scope="col">And</th><th scope="col">Checked in</th></tr></thead>
        <tbody>@for (check of knot().definition.checks; track check.id) { <tr><td><span class="value">{{ check.formula }}</span></td><td>{{ check.says }}</td><td>{{ check.onFail === 'reject' ? 'the record is rejected: it neither gives nor receives' : 'the run stops before it writes' }}</td><td>{{ where(check.members) }}</td></tr> }</tbody>
      </table>
    }
  `,
})
export class KnotChecks {
  readonly knot = input.required<KnotView>();
  protected where(members: readonly string[] | undefined): string {
    return members ? members.map((id) => this.knot().members.find((member) => member.id === id)?.systemName ?? id).join(', ') : 'all members';
  }
}

/** The versions of the definition. */
@Component({
  selector: 'ak-knot-history',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [ExactTimePipe],
  template: `
    <table class="plain">
      <thead><tr><th scope="col" class="number">Version</th><th scope="col">Put in force</th><th scope="col">By</th><th scope="col">Note</th></tr></thead>
      <tbody>@for (version of knot().versions; track version.version) { <tr><th scope="row" class="number">{{ version.version }}</th><td>{{ version.madeAt | exactTime }}@if (version.version === knot().version) { <small class="good">in force</small>}</td><td>{{ version.madeBy }}</td><td>{{ version.note }}</td></tr> }</tbody>
    </table>
  `,
})
export class KnotHistory {
  readonly knot = input.required<KnotView>();
}
