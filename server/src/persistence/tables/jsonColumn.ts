/**
 * The control character U+001E (record separator); JSON text never holds it, because JSON escapes control characters
 * (RFC 8259, section 7).
 */
const separator = '\u001e';

/**
 * A column of JSON values as one parameter, to be read by {@link fromJsonColumn}. Cheaper for both sides than an array
 * of texts, whose quotes would all be escaped, and than one large document, from which each value would be looked up.
 */
export function jsonColumn(values: readonly unknown[]): string {
  return values.map((value) => JSON.stringify(value)).join(separator);
}

/** SQL that reads a {@link jsonColumn} as an array of texts, for `unnest`. */
export function fromJsonColumn(parameter: `$${number}`): string {
  return `string_to_array(${parameter}, e'\\x1e')`;
}
