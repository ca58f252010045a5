import { ChangeDetectionStrategy, Component, computed, effect, inject, input, signal } from '@angular/core';
import { ReactiveFormsModule } from '@angular/forms';
import { MatButtonModule } from '@angular/material/button';
import { MatCheckboxModule } from '@angular/material/checkbox';
import { MatFormFieldModule } from '@angular/material/form-field';
import { MatInputModule } from '@angular/material/input';
import { type MatSelect, MatSelectModule } from '@angular/material/select';
import { MatSlideToggleModule } from '@angular/material/slide-toggle';
import { RouterLink } from '@angular/router';
import { followedOutcomes, type FollowUp, type FollowUpPreview, templateNames } from '@anchor-knot/contracts';
import { forkJoin, map } from 'rxjs';
import { FollowUpsApi } from '../../api/followUpsApi';
import { KnotsApi } from '../../api/knotsApi';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { ProblemText } from '../problem';
import { State } from '../state';
import { KeptForm } from '../../fields/keptForm';
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
  protected readonly session = inject(SessionService);
  protected readonly outcomes = followedOutcomes;
  protected readonly names = Object.entries(templateNames).map(([name, says]) => ({ name, says }));
  protected readonly kept = new KeptForm<RecordMailForm, FollowUp>(
    {
      list: ['/notices', 'records'],
      kept: 'Kept; it holds from the next run on.',
      removed: 'Nothing is mailed by it any more.',
      role: 'administrator',
    },
    recordMailOf,
  );
  protected readonly preview = signal<FollowUpPreview | undefined>(undefined);
  readonly #knot = signal('');
  protected readonly isNew = computed(() => this.mail() === 'new');

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
    const set = this.kept.set();
    return set ? recordMailSentence(set, namesIn(set, this.view.value()?.knots ?? [])) : '';
  });

  constructor() {
    effect(() => {
      const view = this.view.value();
      if (!view || !(view.known || this.isNew())) return;
      const { known, knots } = view;
      const form = recordMailForm(known?.followUp ?? { ...newRecordMail, knot: knots[0]?.id ?? '' });
      const value = known && { revision: known.revision, value: known.followUp };
      this.kept.fill(this.mail(), form, value, ({ controls }) => {
        this.#knot.set(controls.knot.value);
        this.preview.set(undefined);
      });
    });
  }

  /** Puts a name where the cursor stands in the text. */
  protected putIn(form: RecordMailForm, text: HTMLTextAreaElement, from: MatSelect): void {
    const { value } = form.controls.text;
    const [start, end] = [text.selectionStart, text.selectionEnd];
    form.controls.text.setValue(`${value.slice(0, start)}{{ ${String(from.value)} }}${value.slice(end)}`);
    form.markAsDirty();
    from.value = undefined;
  }

  protected show(form: RecordMailForm): void {
    const mail = this.kept.checked(form);
    if (mail) this.kept.asking.ask(this.#api.preview(mail), (preview) => this.preview.set(preview));
  }

  protected save(form: RecordMailForm): void {
    const id = this.isNew() ? undefined : this.mail();
    this.kept.save(form, id, this.#api.keep.bind(this.#api), () => {
      if (id !== undefined) this.view.reload();
    });
  }

  /** As it was last kept. */
  protected undo(): void {
    this.kept.forget();
    this.view.reload();
  }

  protected test(): void {
    this.kept.asking.ask(this.#api.test(this.mail()), () => {
      this.#telling.say('One is on its way to you; Sent says what becomes of it.');
    });
  }

  protected remove(name: string): void {
    this.kept.remove(name, () => this.#api.remove(this.mail()));
  }
}
