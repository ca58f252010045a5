import { ChangeDetectionStrategy, Component, inject, input, output, signal } from '@angular/core';
import { MatButtonModule } from '@angular/material/button';
import { MatSnackBar } from '@angular/material/snack-bar';
import type { AnchorView } from '@anchor-knot/contracts';
import { Api } from '../../api/api';
import { Asking } from '../../api/asking';
import { Pennant } from '../../pennant/pennant';

type Member = AnchorView['members'][number];

/** Ties that a person makes and takes apart; what would follow is said before. */
@Component({
  selector: 'ak-hand-ties',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatButtonModule, Pennant],
  template: `
    <h2>Ties</h2>
    @if (asking.problem(); as problem) { <p class="small wrong" role="alert">{{ problem.says }} {{ problem.advice }}</p> }
    <ul>
      @for (member of anchor().members; track member.id) {
        <li>
          <ak-pennant [settings]="member.pennant" [name]="member.systemName" [shown]="true" />
          @if (member.key !== null && !member.gone) {
            <span class="key value">{{ member.key }}</span>
            @if (member.untying && asked() !== member.id) { <button type="button" class="link" [attr.aria-label]="'Untie the record of ' + member.systemName" (click)="ask(member.id)">untie…</button> }
            @if (asked() === member.id) {
              <div role="group" [attr.aria-label]="'Untie ' + member.key">
                @for (one of follows(member); track one) { <small>{{ one }}</small> }
                <p class="acts"><button mat-stroked-button type="button" [disabled]="asking.busy()" (click)="untie(member)">Untie it</button><button mat-button type="button" (click)="ask('')">Keep it</button></p>
              </div>
            }
          } @else if (asked() === member.id) {
            <form (submit)="$event.preventDefault(); tie(member.id, key.value)">
              <label>Key of the record<input maxlength="500" #key /></label>
              <p class="acts"><button mat-stroked-button type="submit" [disabled]="asking.busy()">Tie it</button><button mat-button type="button" (click)="ask('')">Leave it</button></p>
            </form>
          } @else {
            <small>{{ member.gone ? 'gone' : 'no record' }}</small> <button type="button" class="link" [attr.aria-label]="'Tie a record of ' + member.systemName" (click)="ask(member.id)">tie one…</button>
          }
        </li>
      }
    </ul>
  `,
  styles: `li { font-size: 13.5px; } .key { margin: 0 8px; } .acts { display: flex; gap: 8px; margin: 4px 0; } small { display: block; } li > small { display: inline; margin: 0 8px; } label { display: block; font-size: 12.5px; color: var(--ink-2); } input { width: 100%; box-sizing: border-box; }`,
})
export class HandTies {
  readonly anchor = input.required<AnchorView>();
  readonly changed = output();
  readonly #api = inject(Api);
  readonly #snack = inject(MatSnackBar);
  protected readonly asking = new Asking();
  /** The member that is asked about. */
  protected readonly asked = signal('');

  protected ask(member: string): void {
    this.asked.set(member);
    this.asking.problem.set(undefined);
  }

  /** What the next run would do. */
  protected follows({ systemName, untying, key }: Member): string[] {
    const { thing, members } = this.anchor();
    const names = (untying?.createsIn ?? []).map((id) => members.find((member) => member.id === id)?.systemName ?? id).join(' and ');
    return [
      untying?.starts
        ? `Record ${key ?? ''} would be a ${thing} of its own${names === '' ? '' : `, and be created in ${names}`}.`
        : `Record ${key ?? ''} would be kept out: nothing may start in ${systemName}.`,
      ...(untying?.createsHere ? [`For what is left here, a new record would be created in ${systemName}.`] : []),
      'Values that it gave stay where they were written.',
    ];
  }

  protected untie({ id, key, systemName }: Member): void {
    const anchor = this.anchor().id;
    this.asking.ask(this.#api.untie(anchor, id), () => {
      this.#done();
      this.#snack
        .open(`Record ${key ?? ''} of ${systemName} is untied. The next run takes it as a thing of its own.`, 'Undo', { duration: 12_000 })
        .onAction()
        .subscribe(() => this.tie(id, key ?? ''));
    });
  }
  protected tie(member: string, key: string): void {
    this.asking.ask(this.#api.tie(this.anchor().id, member, key), () => {
      this.#done();
      this.#snack.open(`Record ${key.trim()} is tied. The next run merges it.`, 'Close', { duration: 6000 });
    });
  }
  #done(): void {
    this.asked.set('');
    this.changed.emit();
  }
}
