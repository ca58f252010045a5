import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { ReactiveFormsModule } from '@angular/forms';
import { MatAutocompleteModule } from '@angular/material/autocomplete';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { MatSelectModule } from '@angular/material/select';
import { MatSlideToggleModule } from '@angular/material/slide-toggle';
import { RouterLink } from '@angular/router';
import {
  decisionKinds,
  noticeTopicNames,
  noticeTopics,
  type NoticeRule,
  toldDecisionKinds,
} from '@anchor-knot/contracts';
import { forkJoin, map } from 'rxjs';
import { DecisionsApi } from '../../api/decisionsApi';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { NoticesApi } from '../../api/noticesApi';
import { SessionService } from '../../api/session';
import { ZoneField } from '../../fields/zoneField';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { ProblemText } from '../problem';
import { State } from '../state';
import { KeptForm } from '../../fields/keptForm';
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
  readonly #telling = inject(Telling);
  protected readonly session = inject(SessionService);
  protected readonly topics = noticeTopicNames.map((topic) => ({ topic, words: noticeTopics[topic].words }));
  protected readonly kinds = toldDecisionKinds.map((kind) => ({ kind, words: decisionKinds[kind].words[1] }));
  protected readonly placeholders = { mail: 'name@company.example', webhook: 'https://company.example/told' };
  protected readonly kept = new KeptForm<RuleForm, NoticeRule>(
    {
      list: ['/notices', 'told'],
      kept: 'Kept; it holds from now on.',
      removed: 'Nobody is told by it any more.',
      role: 'administrator',
    },
    ruleOf,
  );
  /** With what messages to programs are signed; it is shown once. */
  protected readonly secret = signal<string | undefined>(undefined);
  protected readonly isNew = computed(() => this.rule() === 'new');

  protected readonly view = load(this.rule, (id) =>
    forkJoin([this.#api.rules(), this.#knots.knots(), this.#decisions.colleagues()]).pipe(
      map(([{ rules }, knots, people]) => ({ known: rules.find((kept) => kept.id === id), knots, people })),
    ),
  );
  protected readonly sentence = computed(() => {
    const [set, knots] = [this.kept.set(), this.view.value()?.knots ?? []];
    return set ? ruleSentence(set, new Map(knots.map(({ id, name }) => [id, name]))) : '';
  });

  constructor() {
    effect(() => {
      const view = this.view.value();
      if (!view || !(view.known || this.isNew())) return;
      const { known } = view;
      const form = ruleForm(known?.rule ?? newRule);
      this.kept.fill(this.rule(), form, known && { revision: known.revision, value: known.rule });
    });
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
    const id = this.isNew() ? undefined : this.rule();
    this.kept.save(form, id, this.#api.keepRule.bind(this.#api), ({ secret }) => {
      this.secret.set(secret ?? undefined);
      if (id !== undefined) this.view.reload();
    });
  }

  /** As it was last kept. */
  protected undo(): void {
    this.kept.forget();
    this.view.reload();
  }

  protected test(): void {
    this.kept.asking.ask(this.#api.testRule(this.rule()), () => {
      this.#telling.say('A test is on its way to all of them; Sent says what becomes of it.');
    });
  }

  protected remove(name: string): void {
    this.kept.remove(name, () => this.#api.removeRule(this.rule()));
  }
}
