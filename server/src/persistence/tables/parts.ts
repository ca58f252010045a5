/** One statement takes no more rows than this: beyond it only memory grows. */
const rowsOfStatement = 1000;

/** Rows in parts, each small enough for one statement. */
export function* inParts<Row>(rows: readonly Row[]): Iterable<readonly Row[]> {
  for (let at = 0; at < rows.length; at += rowsOfStatement) yield rows.slice(at, at + rowsOfStatement);
}
