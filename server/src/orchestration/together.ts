/**
 * Does the same for each item side by side, and ends only when all have ended: nothing goes on behind the back of a run
 * that has failed. After the first failure the others are told by `failed` and stop at their next step.
 * @throws the first failure
 */
export async function together<T, R>(
  items: readonly T[],
  work: (item: T, failed: () => boolean) => Promise<R>,
): Promise<R[]> {
  let failure: { readonly error: unknown } | undefined;
  const results = await Promise.all(
    items.map(async (item) => {
      try {
        return [await work(item, () => failure !== undefined)];
      } catch (error) {
        failure ??= { error };
        return [];
      }
    }),
  );
  if (failure) throw failure.error;
  return results.flat(1) as R[];
}
