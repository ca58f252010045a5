/** Something wrong in a definition: where (a path of names), and what to do about it. */
export interface KnotProblem {
  readonly at: string;
  readonly says: string;
}

/** Is told of what is wrong in a definition, and where. */
export type Report = (at: string, says: string) => void;
