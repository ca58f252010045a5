import type { FastifyError, FastifyInstance } from 'fastify';
import { hasZodFastifySchemaValidationErrors } from 'fastify-type-provider-zod';
import type { Problem } from '@anchor-knot/contracts';

export function noSuch(what: string): Problem {
  return {
    code: 'not found',
    says: `There is no such ${what}.`,
    advice: 'It may have been removed; go back to the list.',
  };
}

/**
 * Every error leaves as a problem: what is wrong and what to do. Faults of ours are logged and say nothing of the
 * inside.
 */
export function answerErrors(app: FastifyInstance): void {
  app.setErrorHandler((error: FastifyError, request, reply) => {
    if (hasZodFastifySchemaValidationErrors(error)) {
      const problems = error.validation.map(({ instancePath, message }) => ({
        at: instancePath.replaceAll('/', '.').replace(/^\./, '') || 'the request',
        says: message ?? 'is not right',
      }));
      return reply.code(400).send({
        code: 'not valid',
        says: `The request is not right: ${problems.map(({ at, says }) => `${at}: ${says}`).join('; ')}`,
        problems,
      });
    }
    const status = error.statusCode ?? 500;
    if (status === 429)
      return reply
        .code(429)
        .send({ code: 'too many tries', says: 'Too many tries.', advice: 'Wait a minute, then try again.' });
    if (error.code?.startsWith('FST_CSRF'))
      return reply.code(403).send({
        code: 'page too old',
        says: 'This page is too old to change anything.',
        advice: 'Load the page again.',
      });
    if (status < 500) return reply.code(status).send({ code: 'not valid', says: error.message });
    request.log.error({ err: error }, 'request failed');
    return reply.code(500).send({
      code: 'fault',
      says: 'Something failed inside. It has been logged.',
      advice: `Try again; if it stays so, look in the log for request ${request.id}.`,
    });
  });
}
