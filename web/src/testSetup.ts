import { deserialize, serialize } from 'node:v8';
import { setupZonelessTestEnv } from 'jest-preset-angular/setup-env/zoneless/index.mjs';

setupZonelessTestEnv();

/** What the simulated document lacks: nothing is ever resized in it, and no media query is met. */
class NoResizing implements ResizeObserver {
  observe(): void {
    return undefined;
  }
  unobserve(): void {
    return undefined;
  }
  disconnect(): void {
    return undefined;
  }
}
globalThis.ResizeObserver ??= NoResizing;
globalThis.matchMedia ??= (media: string): MediaQueryList =>
  Object.assign(new EventTarget(), {
    matches: false,
    media,
    onchange: null,
    addListener: () => undefined,
    removeListener: () => undefined,
  });
Element.prototype.scrollIntoView ??= () => undefined;
Element.prototype.scrollTo ??= () => undefined;
// Every browser has it; jsdom keeps Node's from its documents.
globalThis.structuredClone ??= <T>(value: T): T => deserialize(serialize(value)) as T;
