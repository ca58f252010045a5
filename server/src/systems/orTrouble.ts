import type { Problem } from '@anchor-knot/contracts';
import { SystemTrouble } from '@anchor-knot/connectors';

/** A system's trouble is an answer that a person can act on, not a fault of ours. */
export async function orTrouble<T>(
  reply: { code(status: 422): { send(problem: Problem): unknown } },
  work: () => Promise<T>,
): Promise<T> {
  try {
    return await work();
  } catch (error) {
    if (!(error instanceof SystemTrouble)) throw error;
    return reply.code(422).send({ code: error.code, says: error.message, advice: error.advice }) as T;
  }
}
