/**
 * The one-to-one assignment of greatest total weight (Kuhn 1955, The Hungarian method; in the form with shortest
 * augmenting paths of Jonker and Volgenant 1987). Nothing needs a partner: pairs without a positive weight are left
 * out.
 * @param weights one row for each left item, one column for each right one
 * @returns for each left item the index of its partner, or -1
 */
export function bestAssignment(weights: readonly (readonly number[])[]): number[] {
  const rows = weights.length;
  const columns = weights[0]?.length ?? 0;
  if (rows === 0 || columns === 0) return new Array<number>(rows).fill(-1);
  // Each row has a place of its own that costs nothing: having no partner.
  const width = columns + rows;
  const cost = (row: number, column: number): number =>
    column < columns ? -Math.max(0, weights[row]?.[column] ?? 0) : 0;
  const rowPotential = new Float64Array(rows + 1);
  const columnPotential = new Float64Array(width + 1);
  const rowOf = new Int32Array(width + 1);
  for (let row = 1; row <= rows; row += 1) {
    const shortest = new Float64Array(width + 1).fill(Infinity);
    const before = new Int32Array(width + 1);
    const visited = new Uint8Array(width + 1);
    let column = 0;
    rowOf[0] = row;
    do {
      visited[column] = 1;
      const current = rowOf[column] as number;
      let delta = Infinity;
      let next = 0;
      for (let candidate = 1; candidate <= width; candidate += 1) {
        if (visited[candidate]) continue;
        const reduced =
          cost(current - 1, candidate - 1) - (rowPotential[current] as number) - (columnPotential[candidate] as number);
        if (reduced < (shortest[candidate] as number)) {
          shortest[candidate] = reduced;
          before[candidate] = column;
        }
        if ((shortest[candidate] as number) < delta) {
          delta = shortest[candidate] as number;
          next = candidate;
        }
      }
      for (let one = 0; one <= width; one += 1) {
        if (visited[one]) {
          rowPotential[rowOf[one] as number] = (rowPotential[rowOf[one] as number] as number) + delta;
          columnPotential[one] = (columnPotential[one] as number) - delta;
        } else shortest[one] = (shortest[one] as number) - delta;
      }
      column = next;
    } while (rowOf[column] !== 0);
    while (column !== 0) {
      const previous = before[column] as number;
      rowOf[column] = rowOf[previous] as number;
      column = previous;
    }
  }
  const partners = new Array<number>(rows).fill(-1);
  for (let column = 1; column <= columns; column += 1) {
    const row = rowOf[column] as number;
    if (row > 0 && (weights[row - 1]?.[column - 1] ?? 0) > 0) partners[row - 1] = column - 1;
  }
  return partners;
}
