const longestMs = 20_000;

/**
 * Waits until a check holds: what is typed is asked for only after a pause, and how long that takes on a busy machine
 * is nobody's promise.
 *
 * @throws what the check says last, when it does not hold within 20 s
 */
export async function eventually(check: () => void | Promise<void>): Promise<void> {
  const end = Date.now() + longestMs;
  for (;;) {
    try {
      await check();
      return;
    } catch (error) {
      if (Date.now() > end) throw error;
    }
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
}
