import type { FastifyInstance, FastifyRequest } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import type { ConsentedSystem } from '@anchor-knot/connectors';
import { deliveriesSchema, type Person, problemSchema } from '@anchor-knot/contracts';
import { writeAudit } from '../api/audit.js';
import { type ApiContext, publicAddressOf } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import { signedHook } from '../api/signedHook.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { consented } from './consents.js';
import { orTrouble } from './orTrouble.js';

/**
 * Where people come back to after a consent: a page of the web client, so that the answer is sent on with the
 * session’s own cookies.
 */
const consentPath = '/consent';

/** What systems allow us: consents to sign in, and subscriptions to what happens there. */
export function accessRoutes(app: FastifyInstance, context: ApiContext): void {
  const { data, systems, consents, inbox } = context;
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const oneSystem = z.object({ system: z.string() });
  const oneObject = z.object({ system: z.string(), object: z.string() });
  const addressOf = (request: FastifyRequest): string => publicAddressOf(context, request);

  /** A system whose sign-in is by consent, with the id and secret of this application there. */
  async function consentedSystem(id: string): Promise<{ row: SystemRow; system: ConsentedSystem } | undefined> {
    const row = await systems.find(id);
    const system = row && consented(row.description);
    return row && system ? { row, system } : undefined;
  }

  typed.post(
    '/api/systems/:system/consent',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Begin a consent: where to send the person, who comes back to the callback',
        params: oneSystem,
        body: z.object({ callback: z.url({ protocol: /^https?$/ }) }),
        response: { 200: z.object({ url: z.string() }), 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const found = await consentedSystem(request.params.system);
      if (!found) return reply.code(404).send(noSuch('system with a consent'));
      const { callback } = request.body;
      // Back to where the person is now: their session is there, and nowhere else.
      const own = [request.host, ...(context.publicAddress === undefined ? [] : [new URL(context.publicAddress).host])];
      if (!own.includes(new URL(callback).host) || new URL(callback).pathname !== consentPath)
        return reply.code(422).send({
          code: 'not here',
          says: 'The callback address is not of this installation.',
          advice: 'Open the system here, and give consent from there.',
        });
      if (found.row.credentialId === null)
        return reply.code(422).send({
          code: 'secret needed',
          says: 'No client id and secret are kept for it.',
          advice: 'Enter those of this application there.',
        });
      return {
        url: await consents.begin(found.row, found.system, found.row.credentialId, request.person as Person, callback),
      };
    },
  );

  typed.post(
    '/api/consents',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'End a consent with what the person brought back: the query of the callback',
        body: z.object({ answer: z.string().max(8000) }),
        response: { 200: z.object({ system: z.string() }), 422: problemSchema },
      },
    },
    async (request, reply) => {
      const answer = new URLSearchParams(request.body.answer);
      const state = answer.get('state') ?? '';
      const begun = await consents.take(state, request.person as Person);
      const found = begun && (await consentedSystem(begun.system));
      const credential = found && systems.credential(found.row);
      if (!begun || !found || !credential)
        return reply.code(422).send({
          code: 'not asked for',
          says: 'This answer belongs to no consent that you have begun, or it came too late.',
          advice: 'Open the system and give consent from there.',
        });
      return orTrouble(reply, async () => {
        await consents.complete(
          found.row,
          found.system,
          credential,
          { ...begun, state },
          answer,
          request.person as Person,
          systems.dependencies(found.row),
        );
        await writeAudit(data, request.person, 'consent given', { system: found.row.id });
        return { system: found.row.id };
      });
    },
  );

  typed.delete(
    '/api/systems/:system/consent',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Give a consent back',
        params: oneSystem,
        response: { 204: z.null(), 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const found = await consentedSystem(request.params.system);
      if (!found) return reply.code(404).send(noSuch('system with a consent'));
      await writeAudit(data, request.person, 'consent given back', { system: found.row.id });
      return orTrouble(reply, async () => {
        await consents.revoke(found.row, found.system, systems.credential(found.row), systems.dependencies(found.row));
        return reply.code(204).send(null);
      });
    },
  );

  typed.post(
    '/api/systems/:system/objects/:object/subscription',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Subscribe to what happens with an object',
        params: oneObject,
        response: { 204: z.null(), 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const row = await systems.find(system);
      const events = row?.description.kind === 'http' ? (row.description.objects[object]?.events ?? []) : [];
      if (!row || events.length === 0) return reply.code(404).send(noSuch('object with events'));
      return orTrouble(reply, async () => {
        await inbox.subscribe(row, object, addressOf(request));
        await writeAudit(data, request.person, 'subscribed', { system, object });
        return reply.code(204).send(null);
      });
    },
  );

  typed.delete(
    '/api/systems/:system/objects/:object/subscription',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'End a subscription',
        params: oneObject,
        response: { 204: z.null(), 404: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system, object } = request.params;
      const row = await systems.find(system);
      if (!row) return reply.code(404).send(noSuch('system'));
      await writeAudit(data, request.person, 'subscription ended', { system, object });
      return orTrouble(reply, async () => {
        await inbox.unsubscribe(row, object);
        return reply.code(204).send(null);
      });
    },
  );

  typed.post(
    '/api/systems/:system/subscriptions/check',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['systems'],
        summary: 'See whether subscriptions are in order there, and put right what is not',
        params: oneSystem,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      if (!row) return reply.code(404).send(noSuch('system'));
      await inbox.check(row);
      return reply.code(204).send(null);
    },
  );

  typed.get(
    '/api/subscriptions/:subscription/deliveries',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['systems'],
        summary: 'What was delivered lately',
        params: z.object({ subscription: z.uuid() }),
        response: { 200: deliveriesSchema },
      },
    },
    async (request) => ({ deliveries: await inbox.deliveries(request.params.subscription) }),
  );

  signedHook(app, '/hooks/:id', { bytes: 1024 * 1024, perMinute: 1200 }, async ({ id, headers, body }, reply) => {
    const outcome =
      id === undefined
        ? undefined
        : await inbox.receive(id, headers, body, (db, system, object, key) =>
            context.scheduler.startTold(db, system, object, key, Date.now()),
          );
    if (outcome === undefined) return reply.code(404).send(noSuch('subscription'));
    // A delivery that was taken before is good: whoever sent it again only missed the answer.
    if (typeof outcome === 'string') return reply.code(outcome === 'taken' ? 202 : 200).send({ outcome });
    return reply.code(401).send({ code: 'not taken', says: `The delivery is not taken: ${outcome.refused}.` });
  });
}
