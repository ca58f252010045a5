import { ChangeDetectionStrategy, Component, computed, inject, input } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import type { Notice, NoticeList } from '@anchor-knot/contracts';
import { merge, throttleTime, timer } from 'rxjs';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { NoticesApi } from '../../api/noticesApi';
import { tableParts } from '../../tables/rows';
import { Telling } from '../../telling/telling';
import { AgoTime } from '../../words/agoTime';
import { plural } from '../../words/sentences';
import { ListKeys } from '../listKeys';
import { State } from '../state';

/** Notices come without a run, too. */
const lookAgainMs = 15_000;

/** What needed somebody, whether it still goes on, and what of it is new to the person. */
@Component({
  selector: 'ak-happened',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, AgoTime, ListKeys, MatButtonModule, RouterLink, State],
  templateUrl: './happened.html',
  styleUrl: './notices.scss',
})
export class Happened {
  readonly before = input<string>();
  readonly #api = inject(NoticesApi);
  readonly #telling = inject(Telling);
  protected readonly plural = plural;
  protected readonly list = load(
    computed((): Record<string, string> => {
      const before = this.before();
      return before ? { before } : {};
    }),
    (question) => this.#api.notices(question),
    merge(
      inject(LiveEvents).ends.pipe(throttleTime(1000, undefined, { leading: true, trailing: true })),
      timer(lookAgainMs, lookAgainMs),
    ),
  );

  protected isGoingOn({ overAt }: Notice): boolean {
    return overAt === null;
  }

  /** What waits for a person is not wrong. */
  protected isWaiting({ topic }: Notice): boolean {
    return topic === 'decision' || topic === 'waits long' || topic === 'access ends';
  }

  /** A path of this installation, with what is asked for after its question mark. */
  protected linkOf({ path }: Notice): { readonly path: string; readonly query: Record<string, string> } {
    const { pathname, searchParams } = new URL(path, location.origin);
    return { path: pathname, query: Object.fromEntries(searchParams) };
  }

  protected markSeen({ notices }: NoticeList): void {
    const [latest] = notices;
    if (!latest) return;
    this.#api.markSeen(latest.id).subscribe({
      next: () => this.list.reload(),
      error: (error: unknown) => this.#telling.sayProblem(error),
    });
  }
}
