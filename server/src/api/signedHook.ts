import type { FastifyInstance, FastifyReply, FastifyRequest } from 'fastify';
import { z } from 'zod';

/** What came to a hook: nothing of it is parsed, because signatures are over the raw bytes. */
export interface HookCall {
  /** Of whoever is called; `undefined` where the address has none. */
  readonly id: string | undefined;
  /** With names in small letters. */
  readonly headers: Readonly<Record<string, string | undefined>>;
  readonly body: Buffer;
}

interface Limits {
  readonly bytes: number;
  /** Of each hook, whatever else is written behind its address. */
  readonly perMinute: number;
}

/**
 * An address that others call without a session, with a signature.
 * @param path with `:id` for the hook that is called
 */
export function signedHook(
  app: FastifyInstance,
  path: string,
  { bytes, perMinute }: Limits,
  answer: (call: HookCall, reply: FastifyReply) => Promise<FastifyReply>,
): void {
  const idOf = (request: FastifyRequest): string => (request.params as { id: string }).id;
  void app.register(async (hooks) => {
    hooks.removeAllContentTypeParsers();
    hooks.addContentTypeParser('*', { parseAs: 'buffer', bodyLimit: bytes }, (_, body, done) => done(null, body));
    const rateLimit = { max: perMinute, timeWindow: '1 minute', keyGenerator: idOf };
    hooks.post(path, { config: { role: 'everybody', rateLimit }, schema: { hide: true } }, async (request, reply) => {
      const headers = Object.fromEntries(
        Object.entries(request.headers).map(([name, value]) => [name, Array.isArray(value) ? value[0] : value]),
      );
      const id = z.uuid().safeParse(idOf(request)).data;
      const body = Buffer.isBuffer(request.body) ? request.body : Buffer.alloc(0);
      return answer({ id, headers, body }, reply);
    });
  });
}
