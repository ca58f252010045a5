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
  return (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    (target?.closest('input, textarea, select, [contenteditable], .cm-editor, mat-select') ?? null) !== null
  );
}

@Component({
  selector: 'ak-shortcuts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatDialogModule],
  templateUrl: './shortcuts.html',
  styleUrl: './shortcuts.scss',
})
export class Shortcuts {
  protected readonly keys = Object.entries(viewKeys);
}
