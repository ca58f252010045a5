/** A value as text: records hold JSON, people read words. Exact numbers show as they were sent. */
export function valueText(value: unknown): string {
  if (value === null || value === undefined) return '';
  if (typeof value === 'boolean') return value ? 'yes' : 'no';
  if (typeof value === 'object') {
    if ('$thing' in value && 'title' in value) return String(value.title);
    if ('$number' in value) return String((value as { $number: unknown }).$number);
    return Array.isArray(value) ? value.map(valueText).join(', ') : JSON.stringify(value);
  }
  return String(value);
}

export interface Piece {
  readonly text: string;
  readonly changed: boolean;
  /** Blanks at the ends, shown as dots. */
  readonly blank: boolean;
}

function isLeading(text: string, at: number): boolean {
  const unit = text.charCodeAt(at);
  return unit >= 0xd800 && unit <= 0xdbff;
}

/**
 * A text in pieces: blanks at its ends apart, and what differs from another text apart (common start and end are
 * equal).
 */
export function pieces(text: string, other?: string): Piece[] {
  let start = 0;
  let end = text.length;
  if (other !== undefined && other !== text) {
    while (start < text.length && start < other.length && text[start] === other[start]) start += 1;
    let otherEnd = other.length;
    while (end > start && otherEnd > start && text[end - 1] === other[otherEnd - 1]) {
      end -= 1;
      otherEnd -= 1;
    }
    // A character outside the basic plane is two code units, and is marked as a whole.
    if (start > 0 && isLeading(text, start - 1)) start -= 1;
    if (end < text.length && isLeading(text, end - 1)) end += 1;
  } else start = end;
  const parts = [
    { text: text.slice(0, start), changed: false },
    { text: text.slice(start, end), changed: true },
    { text: text.slice(end), changed: false },
  ];
  const lead = text.length - text.trimStart().length;
  const trail = text.trim() === '' ? text.length : text.trimEnd().length;
  let at = 0;
  return parts.flatMap((part): Piece[] => {
    const result: Piece[] = [];
    for (const character of part.text) {
      const blank = at < lead || at >= trail;
      const last = result.at(-1);
      if (last && last.blank === blank)
        result[result.length - 1] = { ...last, text: last.text + (blank ? '·' : character) };
      else result.push({ text: blank ? '·' : character, changed: part.changed, blank });
      at += character.length;
    }
    return result;
  });
}
