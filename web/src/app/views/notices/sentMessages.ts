import { ChangeDetectionStrategy, Component, computed, inject, input, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { Message } from '@anchor-knot/contracts';
import { timer } from 'rxjs';
import { load } from '../../api/loaded';
import { NoticesApi } from '../../api/noticesApi';
import { SessionService } from '../../api/session';
import { tableParts } from '../../tables/rows';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { State } from '../state';

/** What is sent in the background shows without being asked for. */
const lookAgainMs = 5000;

interface MessageRow {
  readonly id: string;
  readonly message: Message;
  readonly isText: boolean;
}

/** Messages that were sent or are to be, with what became of each. */
@Component({
  selector: 'ak-sent-messages',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, AgoTime, MatButtonModule, RouterLink, State],
  templateUrl: './sentMessages.html',
  styleUrl: './notices.scss',
})
export class SentMessages {
  readonly before = input<string>();
  readonly #api = inject(NoticesApi);
  readonly #telling = inject(Telling);
  protected readonly session = inject(SessionService);
  /** The one whose text is shown. */
  protected readonly opened = signal<string | undefined>(undefined);
  protected readonly list = load(
    computed((): Record<string, string> => {
      const before = this.before();
      return before ? { before } : {};
    }),
    (question) => this.#api.messages(question),
    timer(lookAgainMs, lookAgainMs),
  );

  /** Below the one that is opened there is its text. */
  protected readonly rows = computed((): readonly MessageRow[] =>
    (this.list.value()?.messages ?? []).flatMap((message) => {
      const row = { id: message.id, message, isText: false };
      return this.opened() === message.id ? [row, { ...row, isText: true }] : [row];
    }),
  );

  protected toggle({ id }: Message): void {
    this.opened.update((opened) => (opened === id ? undefined : id));
  }

  protected readonly isText = (_: number, { isText }: MessageRow): boolean => isText;
  protected readonly isMessage = (_: number, { isText }: MessageRow): boolean => !isText;

  protected sendAgain({ id }: Message): void {
    this.#api.sendAgain(id).subscribe({
      next: () => this.list.reload(),
      error: (error: unknown) => this.#telling.sayProblem(error),
    });
  }
}
