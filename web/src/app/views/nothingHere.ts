import { ChangeDetectionStrategy, Component } from '@angular/core';
import { RouterLink } from '@angular/router';

@Component({
  selector: 'ak-nothing-here',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [RouterLink],
  template: `<div class="empty"><h1>There is nothing at this address</h1><p>It may have been mistyped, or lead to something that is gone. <a routerLink="/watch">Go to Watch</a>.</p></div>`,
})
export class NothingHere {}
