import { ChangeDetectionStrategy, Component, computed, inject } from '@angular/core';
import { MatDialogModule } from '@angular/material/dialog';
import { Keys } from '../keys/keys';

/** All keys that do something where the person is now. */
@Component({
  selector: 'ak-shortcuts',
  changeDetection: ChangeDetectionStrategy.OnPush,
  imports: [MatDialogModule],
  templateUrl: './shortcuts.html',
  styleUrl: './shortcuts.scss',
})
export class Shortcuts {
  readonly #keys = inject(Keys);
  /** One line for each thing that is done, with all keys that do it; what the view adds stands first. */
  protected readonly lines = computed(() => {
    const lines = new Map<string, string[][]>();
    for (const { key, says } of this.#keys.bindings())
      lines.set(says, [...(lines.get(says) ?? []), key.split(/[ +]/).map((part) => names[part] ?? part)]);
    return [...lines].map(([says, keys]) => ({ says, keys: unique(keys) }));
  });
}

const names: Readonly<Record<string, string>> = { ctrl: 'Ctrl', shift: 'Shift', ArrowDown: '↓', ArrowUp: '↑' };

const unique = (keys: readonly string[][]): string[][] => [
  ...new Map(keys.map((parts) => [parts.join(' '), parts])).values(),
];
