/**
 * A connection to a PostgreSQL database, as the statements of `tables/` need it. TypeORM's data source and entity
 * manager are such connections, and so is the embedded database of the command line.
 */
export interface SqlConnection {
  /**
   * @returns the rows, of which each statement says what they are; for a bare `update` or `delete` a pair of rows and
   * their number
   */
  query(statement: string, parameters?: unknown[]): Promise<unknown>;
}

/** Where transactions begin. */
export interface SqlDatabase extends SqlConnection {
  transaction<T>(work: (db: SqlConnection) => Promise<T>): Promise<T>;
}
