import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { SessionService } from '../../api/session';
import { type Section, Sections } from '../../layout/sections';
import { Happened } from './happened';
import { RecordMail } from './recordMail';
import { RecordMails } from './recordMails';
import { SentMessages } from './sentMessages';
import { ToldRule } from './toldRule';
import { ToldRules } from './toldRules';

/** What needed somebody, who is told of it, and what was sent? */
@Component({
  selector: 'ak-notices-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [Happened, RecordMail, RecordMails, Sections, SentMessages, ToldRule, ToldRules],
  templateUrl: './noticesView.html',
})
export class NoticesView {
  readonly section = input('happened');
  /** One of those who are told, or of the mails about records: an id, or `new`. */
  readonly rule = input<string>();
  /** Only notices, or messages, from before this one; from the address. */
  readonly before = input<string>();
  readonly #session = inject(SessionService);
  protected readonly sections = computed((): readonly Section[] => [
    { name: 'What happened', link: ['/notices', 'happened'] },
    // What is sent, and to whom, is the business of those who work with it.
    ...(this.#session.may('operator')
      ? [
          { name: 'Who is told', link: ['/notices', 'told'] },
          { name: 'About records', link: ['/notices', 'records'] },
          { name: 'Sent', link: ['/notices', 'sent'] },
        ]
      : []),
  ]);
}
