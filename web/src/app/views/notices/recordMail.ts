import { ChangeDetectionStrategy, Component, computed, DestroyRef, effect, inject, input, signal } from '@angular/core';
import { takeUntilDestroyed } from '@angular/core/rxjs-interop';
import { ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { type MatSelect, MatSelectModule } from '@angular/material/select';
import { MatSlideToggleModule } from '@angular/material/slide-toggle';
import { Router, RouterLink } from '@angular/router';
import {
  followedOutcomes,
  type FollowUp,
  type FollowUpPreview,
  type KeptFollowUp,
  templateNames,
} from '@anchor-knot/contracts';
import { forkJoin, map, startWith, type Subscription } from 'rxjs';
import { Asking } from '../../api/asking';
import { FollowUpsApi } from '../../api/followUpsApi';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { FormDrafts } from '../../fields/formDrafts';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { ProblemText } from '../problem';
import { State } from '../state';
import { newRecordMail, type RecordMailForm, recordMailForm, recordMailOf, recordMailSentence } from './recordMailForm';
import { knotsInForce, namesIn } from './recordMails';

/** One mail about single records: after what, to whom, and in what words. */
@Component({
  selector: 'ak-record-mail',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [
    AgoTime,
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
  ],
  templateUrl: './recordMail.html',
  styleUrls: ['./toldRule.scss', './recordMail.scss'],
})
export class RecordMail {
  /** Its id, or `new`. */
  readonly mail = input.required<string>();
  readonly #api = inject(FollowUpsApi);
  readonly #knots = inject(KnotsApi);
  readonly #telling = inject(Telling);
  readonly #drafts = inject(FormDrafts);
  readonly #router = inject(Router);
  readonly #until = inject(DestroyRef);
  protected readonly session = inject(SessionService);
  protected readonly asking = new Asking();
  protected readonly outcomes = followedOutcomes;
  protected readonly names = Object.entries(templateNames).map(([name, says]) => ({ name, says }));
  protected readonly form = signal<RecordMailForm | undefined>(undefined);
  protected readonly preview = signal<FollowUpPreview | undefined>(undefined);
  readonly #set = signal<FollowUp | undefined>(undefined);
  readonly #knot = signal('');
  protected readonly isNew = computed(() => this.mail() === 'new');
  #watching: Subscription | undefined;
  #known: KeptFollowUp | undefined;

  protected readonly view = load(this.mail, (id) =>
    forkJoin([this.#api.followUps(), knotsInForce(this.#knots)]).pipe(
      map(([{ followUps }, knots]) => ({
        known: followUps.find((kept) => kept.id === id),
        knots,
      })),
    ),
  );
  protected readonly knot = computed(() => this.view.value()?.knots.find(({ id }) => id === this.#knot()));
  /** What is sensitive stays out of mails. */
  protected readonly openFields = computed(
    () => this.knot()?.definition.fields.filter(({ sensitive }) => !sensitive) ?? [],
  );
  protected readonly sentence = computed(() => {
    const set = this.#set();
    return set ? recordMailSentence(set, namesIn(set, this.view.value()?.knots ?? [])) : '';
  });

  constructor() {
    effect(() => {
      const view = this.view.value();
      if (view && (view.known || this.isNew())) this.#fill(view.known, view.knots[0]?.id ?? '');
    });
  }

  #fill(known: KeptFollowUp | undefined, firstKnot: string): void {
    const form = recordMailForm(known?.followUp ?? { ...newRecordMail, knot: firstKnot });
    this.#known = known;
    this.#drafts.keep(this.#draftName, form, this.#until);
    if (!this.session.may('administrator')) form.disable();
    this.#watching?.unsubscribe();
    this.#watching = form.valueChanges.pipe(startWith(undefined), takeUntilDestroyed(this.#until)).subscribe(() => {
      this.#knot.set(form.controls.knot.value);
      this.#set.set(form.enabled ? recordMailOf(form) : known?.followUp);
      this.preview.set(undefined);
    });
    this.form.set(form);
  }

  get #draftName(): string {
    return `mail about records ${this.mail()}`;
  }

  /** Puts a name where the cursor stands in the text. */
  protected putIn(form: RecordMailForm, text: HTMLTextAreaElement, from: MatSelect): void {
    const { value } = form.controls.text;
    const [start, end] = [text.selectionStart, text.selectionEnd];
    form.controls.text.setValue(`${value.slice(0, start)}{{ ${String(from.value)} }}${value.slice(end)}`);
    form.markAsDirty();
    from.value = undefined;
  }

  /** Says what is wrong with all of it, also with what nobody has touched yet. */
  #checked(form: RecordMailForm): FollowUp | undefined {
    const mail = recordMailOf(form);
    form.markAllAsTouched();
    return mail;
  }

  protected show(form: RecordMailForm): void {
    const mail = this.#checked(form);
    if (mail) this.asking.ask(this.#api.preview(mail), (preview) => this.preview.set(preview));
  }

  protected save(form: RecordMailForm): void {
    const mail = this.#checked(form);
    if (!mail) return;
    const id = this.isNew() ? crypto.randomUUID() : this.mail();
    this.asking.ask(this.#api.keep(id, mail, this.#known?.revision ?? 0), () => {
      this.#drafts.forget(this.#draftName);
      this.#telling.say('Kept; it holds from the next run on.');
      if (this.isNew()) void this.#router.navigate(['/notices', 'records', id], { replaceUrl: true });
      else this.view.reload();
    });
  }

  /** As it was last kept. */
  protected undo(): void {
    this.#drafts.forget(this.#draftName);
    this.view.reload();
  }

  protected test(): void {
    this.asking.ask(this.#api.test(this.mail()), () => {
      this.#telling.say('One is on its way to you; Sent says what becomes of it.');
    });
  }

  protected remove(name: string): void {
    this.#telling
      .confirm({ title: `Remove “${name}”?`, says: 'Nothing is mailed by it any more.', action: 'Remove it' })
      .subscribe(() =>
        this.asking.ask(this.#api.remove(this.mail()), () => void this.#router.navigateByUrl('/notices/records')),
      );
  }
}
