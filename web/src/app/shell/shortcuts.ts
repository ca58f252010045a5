import { ChangeDetectionStrategy, Component } from '@angular/core';
import { MatDialogModule } from '@angular/material/dialog';

export const viewKeys: Readonly<Record<string, { path: string; name: string }>> = {
  w: { path: '/watch', name: 'Watch' },
  d: { path: '/decisions', name: 'Decisions' },
  k: { path: '/knots', name: 'Knots' },
  a: { path: '/anchors', name: 'Anchors' },
  s: { path: '/systems', name: 'Systems' },
  r: { path: '/runs', name: 'Runs' },
  t: { path: '/tables', name: 'Tables' },
};

/** True when a key press is typing, not a command. */
export function isTyping(event: KeyboardEvent): boolean {
  const target = event.target as HTMLElement | null;
  return event.ctrlKey || event.metaKey || event.altKey || (target?.closest('input, textarea, select, [contenteditable], .cm-editor, mat-select') ?? null) !== null;
}

@Component({
  selector: 'ak-shortcuts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatDialogModule],
  template: `
    <h2 mat-dialog-title>Keys</h2>
    <mat-dialog-content>
      <table>
        <tbody>
          <tr><th scope="row"><kbd>Ctrl</kbd> <kbd>K</kbd></th><td>search views and anchors</td></tr>
          @for (key of keys; track key[0]) { <tr><th scope="row"><kbd>g</kbd> <kbd>{{ key[0] }}</kbd></th><td>go to {{ key[1].name }}</td></tr> }
          <tr><th scope="row"><kbd>j</kbd> <kbd>k</kbd></th><td>next, previous in a list</td></tr>
          <tr><th scope="row"><kbd>Enter</kbd></th><td>open</td></tr>
          <tr><th scope="row"><kbd>1</kbd> to <kbd>9</kbd>, <kbd>0</kbd></th><td>choose in a decision; 0 stays with what was agreed</td></tr>
          <tr><th scope="row"><kbd>l</kbd></th><td>put an unsure match off</td></tr>
          <tr><th scope="row"><kbd>u</kbd></th><td>in Decisions: take the last word on a match back</td></tr>
          <tr><th scope="row"><kbd>?</kbd></th><td>this list</td></tr>
        </tbody>
      </table>
    </mat-dialog-content>
  `,
  styles: `th { text-align: left; font-weight: 400; padding: 4px 18px 4px 0; } kbd { font: 12px var(--values); border: 1px solid var(--hair); border-radius: 3px; padding: 1px 5px; }`,
})
export class Shortcuts {
  protected readonly keys = Object.entries(viewKeys);
}
