/**
 * How many random histories are tried: the same ones in every test run, or other ones each time where somebody asks for
 * a number.
 * @param asked for by the environment
 */
export function howMany(
  asked: string | undefined,
  usual: number,
): { readonly numRuns: number; readonly seed?: number } {
  return asked === undefined ? { numRuns: usual, seed: 1129 } : { numRuns: Number(asked) };
}
