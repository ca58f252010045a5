import { ChangeDetectionStrategy, Component, computed, DestroyRef, effect, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import { MatSlideToggleModule } from '@angular/material/slide-toggle';
import { Router, RouterLink } from '@angular/router';
import {
  decisionKinds,
  type KeptNoticeRule,
  noticeTopicNames,
  noticeTopics,
  type NoticeRule,
  toldDecisionKinds,
} from '@anchor-knot/contracts';
import { forkJoin, map, startWith, type Subscription } from 'rxjs';
import { Asking } from '../../api/asking';
import { DecisionsApi } from '../../api/decisionsApi';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { NoticesApi } from '../../api/noticesApi';
import { SessionService } from '../../api/session';
import { FormDrafts } from '../../fields/formDrafts';
import { ZoneField } from '../../fields/zoneField';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { ProblemText } from '../problem';
import { State } from '../state';
import { newRule, recipientForm, type RuleForm, ruleForm, ruleOf } from './ruleForm';
import { ruleSentence } from './ruleWords';

/** One rule of who is told of what, and how. */
@Component({
  selector: 'ak-told-rule',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    AgoTime,
    MatAutocompleteModule,
    MatButtonModule,
    MatCheckboxModule,
    MatFormFieldModule,
    MatInputModule,
    MatSelectModule,
    MatSlideToggleModule,
    ProblemText,
    ReactiveFormsModule,
    RouterLink,
    State,
    ZoneField,
  ],
  templateUrl: './toldRule.html',
  styleUrl: './toldRule.scss',
})
export class ToldRule {
  readonly rule = input.required<string>();
  readonly #api = inject(NoticesApi);
  readonly #knots = inject(KnotsApi);
  readonly #decisions = inject(DecisionsApi);
  readonly #drafts = inject(FormDrafts);
  readonly #telling = inject(Telling);
  readonly #router = inject(Router);
  readonly #until = inject(DestroyRef);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly topics = noticeTopicNames.map((topic) => ({ topic, words: noticeTopics[topic].words }));
  protected readonly kinds = toldDecisionKinds.map((kind) => ({ kind, words: decisionKinds[kind].words[1] }));
  protected readonly placeholders = { mail: 'name@company.example', webhook: 'https://company.example/told' };
  protected readonly form = signal<RuleForm | undefined>(undefined);
  /** With what messages to programs are signed; it is shown once. */
  protected readonly secret = signal<string | undefined>(undefined);
  readonly #set = signal<NoticeRule | undefined>(undefined);
  protected readonly isNew = computed(() => this.rule() === 'new');
  #watching: Subscription | undefined;
  #known: KeptNoticeRule | undefined;

  protected readonly view = load(this.rule, (id) =>
    forkJoin([this.#api.rules(), this.#knots.knots(), this.#decisions.colleagues()]).pipe(
      map(([{ rules }, knots, people]) => ({ known: rules.find((kept) => kept.id === id), knots, people })),
    ),
  );
  protected readonly sentence = computed(() => {
    const [set, knots] = [this.#set(), this.view.value()?.knots ?? []];
    return set ? ruleSentence(set, new Map(knots.map(({ id, name }) => [id, name]))) : '';
  });

  constructor() {
    effect(() => {
      const view = this.view.value();
      if (view && (view.known || this.isNew())) this.#fill(view.known);
    });
  }

  #fill(known: KeptNoticeRule | undefined): void {
    const form = ruleForm(known?.rule ?? newRule);
    this.#known = known;
    this.#drafts.keep(this.#draftName, form, this.#until);
    if (!this.session.may('administrator')) form.disable();
    this.#watching?.unsubscribe();
    this.#watching = form.valueChanges
      .pipe(startWith(undefined), takeUntilDestroyed(this.#until))
      .subscribe(() => this.#set.set(form.enabled ? ruleOf(form) : known?.rule));
    this.form.set(form);
  }

  get #draftName(): string {
    return `notices ${this.rule()}`;
  }

  protected addRecipient(form: RuleForm): void {
    form.controls.recipients.push(recipientForm());
    form.markAsDirty();
  }

  protected dropRecipient(form: RuleForm, place: number): void {
    form.controls.recipients.removeAt(place);
    form.markAsDirty();
  }

  protected save(form: RuleForm): void {
    // Fields that nobody has touched yet are checked too.
    const rule = ruleOf(form);
    form.markAllAsTouched();
    if (!rule) return;
    const id = this.isNew() ? crypto.randomUUID() : this.rule();
    this.asking.ask(this.#api.keepRule(id, rule, this.#known?.revision ?? 0), ({ secret }) => {
      this.#drafts.forget(this.#draftName);
      this.secret.set(secret ?? undefined);
      this.#telling.say('Kept; it holds from now on.');
      if (this.isNew()) void this.#router.navigate(['/notices', 'told', id], { replaceUrl: true });
      else this.view.reload();
    });
  }

  /** As it was last kept. */
  protected undo(): void {
    this.#drafts.forget(this.#draftName);
    this.view.reload();
  }

  protected test(): void {
    this.asking.ask(this.#api.testRule(this.rule()), () => {
      this.#telling.say('A test is on its way to all of them; Sent says what becomes of it.');
    });
  }

  protected remove(name: string): void {
    this.#telling
      .confirm({ title: `Remove “${name}”?`, says: 'Nobody is told by it any more.', action: 'Remove it' })
      .subscribe(() =>
        this.asking.ask(this.#api.removeRule(this.rule()), () => void this.#router.navigateByUrl('/notices/told')),
      );
  }
}
