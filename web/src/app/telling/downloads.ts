import { DOCUMENT, inject, Injectable } from '@angular/core';

/** Lets the person save a text as a file. */
@Injectable({ providedIn: 'root' })
export class Downloads {
  readonly #document = inject(DOCUMENT);

  /** @param type the media type, as `text/csv` */
  save(name: string, type: string, text: string): void {
    const link = this.#document.createElement('a');
    link.href = URL.createObjectURL(new Blob([text], { type }));
    link.download = name;
    link.click();
    URL.revokeObjectURL(link.href);
  }
}
