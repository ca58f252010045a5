/** Work that is done piece by piece, so that whoever does it can look after other things in between, or stop. */
export type Steps<Result> = Generator<void, Result>;

/** So many records are looked at in one step. */
export const inOneStep = 500;

/** Does all of it at once. */
export function finished<Result>(steps: Steps<Result>): Result {
  for (;;) {
    const step = steps.next();
    if (step.done === true) return step.value;
  }
}
