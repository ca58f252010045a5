import { createHmac } from 'node:crypto';
import { existsSync } from 'node:fs';
import { resolve } from 'node:path';
import cookie from '@fastify/cookie';
import csrf from '@fastify/csrf-protection';
import helmet from '@fastify/helmet';
import rateLimit from '@fastify/rate-limit';
import swagger from '@fastify/swagger';
import Fastify, { LogController, type FastifyBaseLogger, type FastifyInstance } from 'fastify';
import {
  jsonSchemaTransform,
  jsonSchemaTransformObject,
  serializerCompiler,
  validatorCompiler,
} from 'fastify-type-provider-zod';
import { z } from 'zod';
import type { Settings } from '../configuration/settings.js';
import { correctionRoutes } from '../decisions/correctionRoutes.js';
import { decisionRoutes } from '../decisions/decisionRoutes.js';
import { lackedRoutes } from '../decisions/lackedRoutes.js';
import { matchRoutes } from '../decisions/matchRoutes.js';
import { repairRoutes } from '../decisions/repairRoutes.js';
import { draftRoutes } from '../knots/draftRoutes.js';
import { knotRoutes } from '../knots/knotRoutes.js';
import { referenceRoutes } from '../knots/referenceRoutes.js';
import { seriesRoutes } from '../knots/seriesRoutes.js';
import { substituteRoutes } from '../knots/substituteRoutes.js';
import { followUpRoutes } from '../notices/followUpRoutes.js';
import { noticeRoutes } from '../notices/noticeRoutes.js';
import { recordRoutes } from '../records/recordRoutes.js';
import { runRoutes } from '../runs/runRoutes.js';
import { guardRoutes, signInRoutes } from '../signIn/signInRoutes.js';
import { accessRoutes } from '../systems/accessRoutes.js';
import { objectRoutes } from '../systems/objectRoutes.js';
import { systemRoutes } from '../systems/systemRoutes.js';
import { trialRoutes } from '../systems/trialRoutes.js';
import { anchorRoutes } from '../views/anchorRoutes.js';
import { answers } from '../persistence/dataSource.js';
import { startCallRoutes } from '../triggers/startCallRoutes.js';
import { timingRoutes } from '../triggers/timingRoutes.js';
import { firstLoadRoutes } from '../views/firstLoadRoutes.js';
import { watchRoutes } from '../views/watchRoutes.js';
import type { ApiContext } from './context.js';
import { answerErrors } from './problems.js';

/** The web server: the API, its description, and the built web client. */
export async function makeApp(
  context: ApiContext,
  settings: Pick<Settings, 'SECRET_KEY' | 'COOKIE_SECURE' | 'WEB_FOLDER'>,
  log: FastifyBaseLogger,
): Promise<FastifyInstance> {
  const app = Fastify({
    loggerInstance: log,
    logController: new LogController({ disableRequestLogging: true }),
    bodyLimit: 8 * 1024 * 1024,
    routerOptions: { maxParamLength: 200 },
    forceCloseConnections: true,
  });
  app.setValidatorCompiler(validatorCompiler);
  app.setSerializerCompiler(serializerCompiler);
  answerErrors(app);

  const purpose = (name: string): string =>
    createHmac('sha256', Buffer.from(settings.SECRET_KEY, 'base64')).update(name).digest('base64');
  await app.register(helmet, {
    contentSecurityPolicy: {
      directives: {
        defaultSrc: ["'self'"],
        styleSrc: ["'self'", "'unsafe-inline'"],
        scriptSrc: ["'self'"],
        imgSrc: ["'self'", 'data:'],
        fontSrc: ["'self'"],
        connectSrc: ["'self'"],
        objectSrc: ["'none'"],
        frameAncestors: ["'none'"],
        upgradeInsecureRequests: null,
      },
    },
    strictTransportSecurity: settings.COOKIE_SECURE,
  });
  await app.register(cookie, { secret: purpose('cookies') });
  await app.register(csrf, {
    cookieOpts: { signed: true, httpOnly: true, sameSite: 'strict', path: '/', secure: settings.COOKIE_SECURE },
    getToken: (request) => request.headers['x-csrf-token'] as string,
  });
  await app.register(rateLimit, { global: false });
  await app.register(swagger, {
    openapi: {
      openapi: '3.1.0',
      info: {
        title: 'Anchor Knot',
        description: 'Keeps records consistent across business applications.',
        version: '0.1.0',
      },
      components: { securitySchemes: { session: { type: 'apiKey', in: 'cookie', name: 'anchor_knot_session' } } },
    },
    transform: jsonSchemaTransform,
    transformObject: jsonSchemaTransformObject,
  });
  guardRoutes(app, context.data);

  app.get(
    '/api/health',
    {
      config: { role: 'everybody' },
      schema: {
        tags: ['health'],
        summary: 'The process is alive',
        response: { 200: z.object({ alive: z.literal(true) }) },
      },
    },
    async () => ({ alive: true as const }),
  );
  app.get(
    '/api/ready',
    {
      config: { role: 'everybody' },
      schema: {
        tags: ['health'],
        summary: 'The database answers',
        response: { 200: z.object({ ready: z.boolean() }), 503: z.object({ ready: z.boolean() }) },
      },
    },
    async (_, reply) => {
      const ready = await answers(context.data);
      return reply.code(ready ? 200 : 503).send({ ready });
    },
  );
  app.get('/api/openapi.json', { config: { role: 'everybody' }, schema: { hide: true } }, async () => app.swagger());
  signInRoutes(app, context.data, { secureCookie: settings.COOKIE_SECURE });
  watchRoutes(app, context);
  firstLoadRoutes(app, context);
  systemRoutes(app, context);
  trialRoutes(app, context);
  objectRoutes(app, context);
  accessRoutes(app, context);
  knotRoutes(app, context);
  draftRoutes(app, context);
  referenceRoutes(app, context);
  substituteRoutes(app, context);
  seriesRoutes(app, context);
  anchorRoutes(app, context);
  runRoutes(app, context);
  timingRoutes(app, context);
  startCallRoutes(app, context);
  lackedRoutes(app, context);
  decisionRoutes(app, context);
  correctionRoutes(app, context);
  repairRoutes(app, context);
  recordRoutes(app, context);
  matchRoutes(app, context);
  followUpRoutes(app, context);
  noticeRoutes(app, context);

  await serveWeb(app, settings.WEB_FOLDER);
  return app;
}

/**
 * The web client: files with a hash in their name are kept by browsers, the page itself is not. Unknown addresses are
 * the client's own.
 */
async function serveWeb(app: FastifyInstance, folder: string | undefined): Promise<void> {
  const root = folder === undefined ? undefined : resolve(folder);
  const built = root !== undefined && existsSync(root);
  if (built) {
    // Only where there is something to serve: a server of the API alone does without.
    const { default: fastifyStatic } = await import('@fastify/static');
    await app.register(fastifyStatic, {
      root,
      wildcard: false,
      index: ['index.html'],
      setHeaders: (reply, path) =>
        void reply.setHeader(
          'cache-control',
          /-[A-Z0-9]{8}\./i.test(path) ? 'public, max-age=31536000, immutable' : 'no-cache',
        ),
    });
  }
  app.setNotFoundHandler(async (request, reply) => {
    if (!request.url.startsWith('/api') && built && request.method === 'GET')
      return reply.header('cache-control', 'no-cache').sendFile('index.html');
    return reply.code(404).send({ code: 'not found', says: `There is nothing at ${request.url.slice(0, 200)}.` });
  });
}
