import { createHash, randomBytes } from 'node:crypto';
import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import type { DataSource } from 'typeorm';
import { v7 as uuid } from 'uuid';
import { type Person, type Role, roles, problemSchema, sessionSchema, signInSchema } from '@anchor-knot/contracts';
import { z } from 'zod';
import {
  beginSession,
  endSession,
  insertPerson,
  personByEmail,
  personOfSession,
} from '../persistence/tables/people.js';
import { hashPassword, passwordMatches } from './passwords.js';

declare module 'fastify' {
  interface FastifyRequest {
    person: Person | undefined;
  }
  interface FastifyContextConfig {
    /** The least role that may use a route; `everybody` needs no sign-in. A route without it is refused at start. */
    role?: Role | 'everybody';
  }
}

const cookieName = 'anchor_knot_session';
const sessionHours = 12;

export async function addPerson(data: DataSource, person: Person, password: string): Promise<void> {
  await insertPerson(data, {
    id: uuid(),
    name: person.name,
    email: person.email,
    role: person.role,
    passwordHash: await hashPassword(password),
  });
}

const tokenHash = (token: string): string => createHash('sha256').update(token).digest('base64url');

/** Whom a request's session cookie stands for. */
async function personOf(data: DataSource, request: FastifyRequest): Promise<Person | undefined> {
  const token = request.cookies[cookieName];
  if (!token) return undefined;
  const user = await personOfSession(data, tokenHash(token), new Date());
  return user ? { name: user.name, email: user.email, role: user.role } : undefined;
}

const changing = new Set(['POST', 'PUT', 'PATCH', 'DELETE']);

/** Checks each request against the role of its route, and changes against the CSRF token. Applies to the whole API. */
export function guardRoutes(app: FastifyInstance, data: DataSource): void {
  app.decorateRequest('person', undefined);
  app.addHook('onRoute', ({ config, url, method }) => {
    if (!config?.role && method !== 'HEAD' && url.startsWith('/api'))
      throw new Error(`route ${String(method)} ${url} does not say who may use it`);
  });
  app.addHook('onRequest', async (request, reply) => {
    const needed = request.routeOptions.config.role;
    if (needed === undefined || needed === 'everybody') return;
    request.person = await personOf(data, request);
    if (!request.person)
      return reply.code(401).send({
        code: 'not signed in',
        says: 'You are not signed in, or your session has ended.',
        advice: 'Sign in again.',
      });
    if (roles.indexOf(request.person.role) < roles.indexOf(needed)) {
      return reply.code(403).send({
        code: 'not allowed',
        says: `Your role is ${request.person.role}; this needs ${needed}.`,
        advice: 'Ask an administrator.',
      });
    }
    if (changing.has(request.method))
      await new Promise<void>((resolve, reject) =>
        app.csrfProtection(request, reply, (error?: unknown) => (error ? reject(error as Error) : resolve())),
      );
    return undefined;
  });
}

export function signInRoutes(
  app: FastifyInstance,
  data: DataSource,
  options: { readonly secureCookie: boolean },
): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const cookie = { httpOnly: true, sameSite: 'strict', secure: options.secureCookie, path: '/' } as const;

  typed.post(
    '/api/session',
    {
      config: {
        role: 'everybody',
        rateLimit: {
          max: 10,
          timeWindow: '1 minute',
          hook: 'preHandler',
          keyGenerator: (request: FastifyRequest) =>
            `${request.ip} ${String((request.body as { email?: unknown } | undefined)?.email).toLowerCase()}`,
        },
      },
      schema: {
        tags: ['session'],
        summary: 'Sign in',
        body: signInSchema,
        response: { 200: sessionSchema, 401: problemSchema },
      },
    },
    async (request, reply) => {
      const { email, password } = request.body;
      const user = await personByEmail(data, email);
      if (!(await passwordMatches(user?.passwordHash, password)) || !user)
        return reply.code(401).send({
          code: 'sign-in refused',
          says: 'The email or the password is wrong.',
          advice: 'Try again; after ten tries wait a minute.',
        });
      const token = randomBytes(32).toString('base64url');
      const expiresAt = new Date(Date.now() + sessionHours * 3_600_000);
      await beginSession(data, tokenHash(token), user.id, expiresAt);
      reply.setCookie(cookieName, token, { ...cookie, maxAge: sessionHours * 3600 });
      return { person: { name: user.name, email: user.email, role: user.role }, csrfToken: reply.generateCsrf() };
    },
  );

  typed.get(
    '/api/session',
    {
      config: { role: 'viewer' },
      schema: { tags: ['session'], summary: 'Who is signed in', response: { 200: sessionSchema } },
    },
    async (request, reply) => ({ person: request.person as Person, csrfToken: reply.generateCsrf() }),
  );

  typed.delete(
    '/api/session',
    { config: { role: 'viewer' }, schema: { tags: ['session'], summary: 'Sign out', response: { 204: z.null() } } },
    async (request, reply) => {
      await endSession(data, tokenHash(request.cookies[cookieName] as string));
      return reply.clearCookie(cookieName, cookie).code(204).send(null);
    },
  );
}
