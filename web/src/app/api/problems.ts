import { HttpErrorResponse } from '@angular/common/http';
import { type Problem, problemSchema } from '@anchor-knot/contracts';

/** What an error says to the person who met it. */
export function problemOf(error: unknown): Problem {
  if (error instanceof HttpErrorResponse) {
    const parsed = problemSchema.safeParse(error.error);
    if (parsed.success) return parsed.data;
    if (error.status === 0)
      return {
        code: 'unreachable',
        says: 'The server cannot be reached.',
        advice: 'See whether it is running. What is shown may be old; views ask again by themselves.',
      };
    return { code: 'fault', says: `The server answered ${error.status}.` };
  }
  return { code: 'fault', says: error instanceof Error ? error.message.slice(0, 300) : String(error) };
}

const gatewayStates = [0, 502, 503, 504];

/** Whether the server itself did not answer: it is gone or being restarted; the same question may be asked again. */
export function isAway(error: unknown): boolean {
  return error instanceof HttpErrorResponse && gatewayStates.includes(error.status);
}
