import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  changeSystemSchema,
  connectSystemSchema,
  credentialSchema,
  probeSchema,
  problemSchema,
  type System,
  systemSchema,
  type SystemSummary,
  systemSummarySchema,
  type SystemView,
  systemViewSchema,
  hasObject,
} from '@anchor-knot/contracts';
import type { Probe } from '@anchor-knot/connectors';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { consented } from './consents.js';
import { systemSummary } from '../views/summaries.js';

/** Connected systems: connecting, changing, testing, disconnecting them. */
export function systemRoutes(app: FastifyInstance, context: ApiContext): void {
  const { data, knots, systems, objects, inbox } = context;
  const typed = app.withTypeProvider<ZodTypeProvider>();
  const oneSystem = z.object({ system: z.string() });

  async function viewOf(row: SystemRow): Promise<SystemView> {
    const description = systemSchema.parse(row.description);
    return {
      summary: await summaryOf(context, row),
      description,
      note: row.note,
      environment: row.environment,
      accessEndsOn: row.accessEndsOn,
      certificateEndsAt: row.certificateEndsAt?.toISOString() ?? null,
      revision: row.revision,
      signsInAs: row.credentialId,
      probe: row.probe && row.probedAt ? { ...row.probe, at: row.probedAt.toISOString() } : null,
      objects: await objects.summaries(row.id, description),
      calls: await systems.calls(row),
      consent: consented(description)
        ? {
            given: row.tokens !== null,
            by: row.consentBy,
            at: row.consentAt?.toISOString() ?? null,
            granted: row.consentScope,
            endsAt: row.consentEndsAt?.toISOString() ?? null,
          }
        : null,
      subscriptions: await inbox.of(row.id),
    };
  }

  typed.get(
    '/api/systems',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['systems'],
        summary: 'Connected systems and how they are',
        response: { 200: z.object({ systems: z.array(systemSummarySchema) }) },
      },
    },
    async () => ({ systems: await Promise.all((await systems.all()).map((row) => summaryOf(context, row))) }),
  );

  typed.get(
    '/api/systems/:system',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['systems'],
        summary: 'One system and its objects',
        params: oneSystem,
        response: { 200: systemViewSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      return row ? viewOf(row) : reply.code(404).send(noSuch('system'));
    },
  );

  typed.post(
    '/api/systems',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Connect a system',
        body: connectSystemSchema,
        response: { 201: z.object({ system: z.string() }), 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { credential, ...settings } = request.body;
      const system = await systems.connectNew({ ...settings, ...(credential ? { credential } : {}) });
      await writeAudit(data, request.person, 'system connected', { system, name: settings.description.name });
      return reply.code(201).send({ system });
    },
  );

  typed.put(
    '/api/systems/:system',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Change a system',
        params: oneSystem,
        body: changeSystemSchema,
        response: { 200: systemViewSchema, 404: problemSchema, 409: problemSchema, 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { system } = request.params;
      const { revision, ...settings } = request.body;
      const before = await systems.find(system);
      if (!before) return reply.code(404).send(noSuch('system'));
      const missing = await objectsStillUsed(system, settings.description);
      if (missing.length > 0)
        return reply.code(422).send({
          code: 'object in use',
          says: `${missing.join(', ')} cannot be taken out.`,
          advice: 'A knot uses it: take the member out of the knot first.',
        });
      const outcome = await systems.change(before, revision, settings);
      if (outcome === 'secret needed')
        return reply.code(422).send({
          code: 'secret needed',
          says: 'The system is at another place now.',
          advice: 'Type its secret again: one that was given for one place is never sent to another.',
        });
      if (outcome === 'changed meanwhile')
        return reply.code(409).send({
          code: 'changed meanwhile',
          says: 'Somebody else has changed this system since you opened it.',
          advice: 'Load it again, and make your change anew.',
        });
      await writeAudit(data, request.person, 'system changed', { system });
      return viewOf((await systems.find(system)) as SystemRow);
    },
  );

  async function objectsStillUsed(system: string, description: System): Promise<string[]> {
    const missing: string[] = [];
    for (const id of await knots.ids()) {
      const knot = await knots.inForce(id);
      for (const member of knot?.definition.members ?? []) {
        if (member.system === system && !hasObject(description, member.object))
          missing.push(`“${member.object}” (used in ${knot?.definition.name ?? id})`);
      }
    }
    return missing;
  }

  typed.put(
    '/api/systems/:system/credential',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Replace what signs in; it serves everything that uses the system',
        params: oneSystem,
        body: credentialSchema,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { system } = request.params;
      if (!(await systems.find(system))) return reply.code(404).send(noSuch('system'));
      await systems.replaceCredential(system, request.body);
      await writeAudit(data, request.person, 'credential replaced', { system });
      return reply.code(204).send(null);
    },
  );

  typed.delete(
    '/api/systems/:system/credential',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Withdraw what signs in; nothing is read or written there until another is given',
        params: oneSystem,
        response: { 204: z.null(), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { system } = request.params;
      if (!(await systems.find(system))) return reply.code(404).send(noSuch('system'));
      await systems.withdrawCredential(system);
      await writeAudit(data, request.person, 'credential withdrawn', { system });
      return reply.code(204).send(null);
    },
  );

  typed.delete(
    '/api/systems/:system',
    {
      config: { role: 'administrator' },
      schema: {
        tags: ['systems'],
        summary: 'Disconnect a system that no knot uses',
        params: oneSystem,
        response: { 204: z.null(), 404: problemSchema, 409: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      if (!row) return reply.code(404).send(noSuch('system'));
      const { usedIn } = await summaryOf(context, row);
      if (usedIn.length > 0)
        return reply.code(409).send({
          code: 'in use',
          says: `${row.name} is used in ${usedIn.map(({ name }) => name).join(', ')}.`,
          advice: 'Take it out of the knots first.',
        });
      await systems.remove(row.id);
      await writeAudit(data, request.person, 'system disconnected', { system: row.id, name: row.name });
      return reply.code(204).send(null);
    },
  );

  typed.post(
    '/api/systems/:system/probe',
    {
      config: { role: 'operator' },
      schema: {
        tags: ['systems'],
        summary: 'Try a connected system, and keep how it went',
        params: oneSystem,
        response: { 200: probeSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const row = await systems.find(request.params.system);
      return row ? probeAnswer(await systems.probe(row)) : reply.code(404).send(noSuch('system'));
    },
  );
}

/** A system as lists show it, with the knots that use it. */
export async function summaryOf({ knots }: ApiContext, row: SystemRow): Promise<SystemSummary> {
  const loaded = (await Promise.all((await knots.ids()).map((id) => knots.inForce(id)))).flatMap((knot) => knot ?? []);
  const uses = loaded.filter(({ definition }) => definition.members.some(({ system }) => system === row.id));
  return systemSummary(
    row,
    uses.map(({ id, definition }) => ({ knot: id, name: definition.name })),
  );
}

export function probeAnswer(probe: Probe): z.input<typeof probeSchema> {
  return { ...probe, steps: probe.steps.map((step) => ({ ...step })) };
}
