import formbody from '@fastify/formbody';
import Fastify, { type FastifyInstance } from 'fastify';

/** A bare Fastify server for a stand-in; forms are understood, nothing is logged. */
export async function standInServer(): Promise<FastifyInstance> {
  const app = Fastify({ bodyLimit: 1024 * 1024, forceCloseConnections: true });
  await app.register(formbody);
  return app;
}
