/**
 * A connection to a PostgreSQL database, as the statements of `tables/` need it. TypeORM's data source and entity
 * manager are such connections, and so is the embedded database of the command line.
 */
export interface SqlConnection {
  /**
   * @returns the rows; for a bare `update` or `delete` a pair of rows and their number
   */
  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- each statement says what its rows are
  query(statement: string, parameters?: any[]): Promise<any>;
}

/** Where transactions begin. */
export interface SqlDatabase extends SqlConnection {
  transaction<T>(work: (db: SqlConnection) => Promise<T>): Promise<T>;
}
