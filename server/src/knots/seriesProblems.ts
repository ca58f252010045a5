import type { Knot, KnotProblem } from '@anchor-knot/core';
import type { SqlConnection } from '../persistence/sql.js';
import { findSeries } from '../persistence/tables/series.js';

/** Series that fields of a definition name, and that are not there. */
export async function seriesProblems(db: SqlConnection, { fields }: Knot): Promise<readonly KnotProblem[]> {
  const problems: KnotProblem[] = [];
  for (const { id, series } of fields) {
    if (series === undefined || (await findSeries(db, series))) continue;
    const says = `there is no series “${series}” here: choose one, or make it`;
    problems.push({ at: `fields.${id}.series`, says });
  }
  return problems;
}
