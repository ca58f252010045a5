import { Injectable, signal } from '@angular/core';

const storageKey = 'anchor-knot-column-widths';
/** In pixels: what a column has where nobody said otherwise, and how narrow and wide it may be made. */
export const usualWidth = 146;
export const leastWidth = 90;
export const greatestWidth = 900;

/** How wide the columns of systems are, in every grid alike; remembered by this browser. */
@Injectable({ providedIn: 'root' })
export class ColumnWidths {
  readonly #widths = signal<Readonly<Record<string, number>>>(read());

  /**
   * In pixels; `undefined` where the column takes its share of the room.
   * @param column a system, or `field`, `anchor`
   */
  of(column: string): number | undefined {
    return this.#widths()[column];
  }

  /** @param width in pixels; `undefined` gives the column its share of the room again */
  set(column: string, width: number | undefined): void {
    const { [column]: _, ...others } = this.#widths();
    const kept =
      width === undefined ? {} : { [column]: Math.round(Math.min(greatestWidth, Math.max(leastWidth, width))) };
    this.#widths.set({ ...others, ...kept });
    localStorage.setItem(storageKey, JSON.stringify(this.#widths()));
  }
}

/** What somebody else wrote there, or an older version, is no width. */
function read(): Record<string, number> {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(storageKey) ?? '{}');
    if (typeof kept !== 'object' || kept === null) return {};
    const isWidth = (width: unknown): width is number =>
      typeof width === 'number' && width >= leastWidth && width <= greatestWidth;
    return Object.fromEntries(Object.entries(kept).filter((entry): entry is [string, number] => isWidth(entry[1])));
  } catch {
    return {};
  }
}
