/** What was left empty is not part of the description. */
export function given(name: string, text: string): Record<string, string> {
  return text.trim() === '' ? {} : { [name]: text.trim() };
}

/** A number as people write it, with spaces between thousands or a comma before decimals. */
export function number(text: string): number {
  return Number(text.trim().replaceAll(/[\s_]/g, '').replace(',', '.'));
}

/** Names that are separated by commas. */
export function namesIn(text: string): string[] {
  return text
    .split(',')
    .map((name) => name.trim())
    .filter((name) => name !== '');
}

/** @param seconds as typed */
export function milliseconds(seconds: string): number {
  return Math.round(Number(seconds.replace(',', '.')) * 1000);
}
