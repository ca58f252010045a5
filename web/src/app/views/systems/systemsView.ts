import { ChangeDetectionStrategy, Component, inject, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { RouterLink } from '@angular/router';
import { SystemsApi } from '../../api/systemsApi';
import { LiveEvents } from '../../api/liveEvents';
import { load } from '../../api/loaded';
import { SessionService } from '../../api/session';
import { Pennant } from '../../pennant/pennant';
import { ListKeys } from '../listKeys';
import { State } from '../state';
import { AgoTime } from '../../words/agoTime';
import { tableParts } from '../../tables/rows';

/** What is connected, and is it healthy? */
@Component({
  selector: 'ak-systems-view',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [...tableParts, RouterLink, MatButtonModule, ListKeys, Pennant, State, AgoTime],
  templateUrl: './systemsView.html',
  styles: `td small { display: block; max-width: 44ch; } .whole { white-space: nowrap; }`,
})
export class SystemsView {
  protected readonly session = inject(SessionService);
  readonly #api = inject(SystemsApi);
  protected readonly systems = load(signal('all').asReadonly(), () => this.#api.systems(), inject(LiveEvents).ends);
}
