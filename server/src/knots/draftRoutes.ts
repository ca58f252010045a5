import { Readable } from 'node:stream';
import type { FastifyInstance } from 'fastify';
import type { ZodTypeProvider } from 'fastify-type-provider-zod';
import { z } from 'zod';
import {
  describeIssues,
  draftSchema,
  importKnotSchema,
  type KnotDefinition,
  knotDraftSchema,
  knotFileSchema,
  knotListSchema,
  knotSchema,
  type NewKnot,
  newKnotSchema,
  type Person,
  problemSchema,
  readingSchema,
  saveDraftSchema,
  systemSchema,
  hasObject,
} from '@anchor-knot/contracts';
import { type Knot, newMember, referToSameRecord } from '@anchor-knot/core';
import { writeAudit } from '../api/audit.js';
import type { ApiContext } from '../api/context.js';
import { noSuch } from '../api/problems.js';
import type { SystemRow } from '../persistence/entities/entities.js';
import { mayOf } from '../systems/objects.js';
import { systemClock } from '../worker/systemClock.js';
import { knotStates } from '../persistence/tables/versions.js';
import { standingView } from '../views/summaries.js';
import { surveyKnot } from './surveys.js';

const parameters = z.object({ knot: z.string() });

type ChosenObject = NewKnot['members'][number];

const isObject = (chosen: ChosenObject, system: string, object: string): boolean =>
  chosen.system === system && chosen.object === object;

/** A knot in which nothing is said yet but which objects take part. */
function emptyKnot(
  { name, thing }: Pick<NewKnot, 'name' | 'thing'>,
  members: readonly ChosenObject[],
  rows: readonly SystemRow[],
): KnotDefinition {
  const ids = new Set<string>();
  return {
    id: '',
    name,
    thing,
    titleField: '',
    start: 'merge',
    members: members.map(({ system, object }) => {
      const row = rows.find(({ id }) => id === system);
      const rights = row ? mayOf(systemSchema.parse(row.description), object) : [];
      return { ...newMember(system, object, rights), id: freeId(row?.name.split(/\s+/)[0] ?? system, ids) };
    }),
    fields: [],
    keyRules: [],
    checks: [],
    crosswalks: {},
  };
}

/** Knots that are being made or changed: nothing of this is in force. */
export function draftRoutes(app: FastifyInstance, { data, knots, drafts, readings, systems }: ApiContext): void {
  const typed = app.withTypeProvider<ZodTypeProvider>();

  typed.get(
    '/api/knots',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'All knots, with those that are not in force yet',
        response: { 200: knotListSchema },
      },
    },
    async () => {
      const states = await knotStates(data);
      const references = new Map((await knots.all()).map(({ id, definition }) => [id, referencesOf(definition)]));
      return {
        knots: (await drafts.list()).map((knot) => ({
          ...knot,
          standing: standingView(states.get(knot.id)),
          refersTo: references.get(knot.id) ?? [],
        })),
      };
    },
  );

  typed.post(
    '/api/knots',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Begin a knot between objects',
        body: newKnotSchema,
        response: { 201: z.object({ knot: z.string() }), 422: problemSchema },
      },
    },
    async (request, reply) => {
      const { name, thing, members, also } = request.body;
      const rows = await systems.all();
      const ofSecond = also ? [also.of, ...also.members] : [];
      const missing = [...members, ...ofSecond].find(
        ({ system, object }) => !hasObject(rows.find(({ id }) => id === system)?.description, object),
      );
      if (missing)
        return reply.code(422).send({
          code: 'no such object',
          says: `There is no object “${missing.object}” in a system “${missing.system}” here.`,
        });
      const first = emptyKnot({ name, thing }, members, rows);
      const second = also && emptyKnot(also, ofSecond, rows);
      const there = also && first.members.find(({ system, object }) => isObject(also.of, system, object));
      if (also && !there)
        return reply.code(422).send({
          code: 'no such object',
          says: `“${also.of.object}” is no object of ${name}: only their records can be something else too.`,
        });
      const knot = await begin(first, request.person);
      const [here] = second?.members ?? [];
      if (!second || !here || !there) return reply.code(201).send({ knot });
      const called = `${thing.charAt(0).toUpperCase()}${thing.slice(1)}`;
      const refers = referToSameRecord(called, knot, { here: here.id, there: there.id });
      await begin(refers(second as Knot) as KnotDefinition, request.person);
      return reply.code(201).send({ knot });
    },
  );

  typed.post(
    '/api/knots/import',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Begin a knot from a knot file',
        body: importKnotSchema,
        response: { 201: z.object({ knot: z.string() }), 422: problemSchema },
      },
    },
    async (request, reply) => {
      const parsed = knotFileSchema.safeParse(request.body.file);
      const version = (request.body.file as { formatVersion?: unknown } | null)?.formatVersion;
      if (!parsed.success)
        return reply.code(422).send({
          code: 'not a knot file',
          says:
            version !== undefined && version !== 1
              ? `This is a knot file of version ${JSON.stringify(version)}; version 1 is read here.`
              : 'This is no knot file; nothing was begun.',
          problems: describeIssues(parsed.error),
        });
      return reply.code(201).send({ knot: await begin(parsed.data.knot, request.person) });
    },
  );

  /** Begins a knot under an id that is free. */
  async function begin(definition: KnotDefinition, person: Person | undefined): Promise<string> {
    const taken = new Set((await drafts.list()).map(({ id }) => id));
    for (;;) {
      const id = freeId(definition.id || definition.name, taken);
      if (await drafts.begin({ ...definition, id }, person?.name ?? '')) {
        await writeAudit(data, person, 'knot begun', { knot: id });
        return id;
      }
    }
  }

  typed.get(
    '/api/knot-schema',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'The JSON Schema of knot files',
        response: { 200: z.record(z.string(), z.unknown()) },
      },
    },
    async () => z.toJSONSchema(knotFileSchema, { io: 'input' }),
  );

  typed.get(
    '/api/knots/:knot/draft',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'The definition under work; the one in force where nobody works on it',
        params: parameters,
        response: { 200: draftSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const draft = await drafts.find(request.params.knot);
      if (draft) return draft;
      const knot = await knots.inForce(request.params.knot);
      if (!knot) return reply.code(404).send(noSuch('knot'));
      return {
        definition: knotDraftSchema.parse(knot.definition),
        turnedDown: [],
        revision: 0,
        basedOn: knot.version,
        changedBy: null,
        changedAt: null,
      };
    },
  );

  typed.put(
    '/api/knots/:knot/draft',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Keep an edit of the definition under work',
        params: parameters,
        body: saveDraftSchema,
        response: {
          200: z.object({ revision: z.number() }),
          404: problemSchema,
          409: problemSchema,
          422: problemSchema,
        },
      },
    },
    async (request, reply) => {
      const { knot } = request.params;
      if (request.body.definition.id !== knot)
        return reply
          .code(422)
          .send({ code: 'not this knot', says: `The id of this knot is “${knot}” and cannot be changed.` });
      if (!(await drafts.list()).some(({ id }) => id === knot)) return reply.code(404).send(noSuch('knot'));
      const saved = await drafts.save(knot, request.body, request.person?.name ?? '');
      if (typeof saved === 'number') return { revision: saved };
      const who =
        saved === 'no draft'
          ? 'Somebody put the draft in force or gave it up'
          : `${saved.changedBy ?? 'Somebody'} changed this draft`;
      return reply.code(409).send({
        code: 'changed meanwhile',
        says: `${who} meanwhile; your last edit was not kept.`,
        advice: 'Look at the draft as it is now, and make your edit again.',
      });
    },
  );

  typed.delete(
    '/api/knots/:knot/draft',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary: 'Give the edits up; a knot that was never in force goes with them',
        params: parameters,
        response: { 204: z.null() },
      },
    },
    async (request, reply) => {
      await drafts.discard(request.params.knot, request.person?.name ?? '');
      await writeAudit(data, request.person, 'draft given up', { knot: request.params.knot });
      return reply.code(204).send(null);
    },
  );

  typed.get(
    '/api/knots/:knot/versions/:version',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary: 'The definition of one version',
        params: z.object({ knot: z.string(), version: z.coerce.number().int().min(1) }),
        response: { 200: z.object({ definition: knotSchema }), 404: problemSchema },
      },
    },
    async (request, reply) => {
      const definition = await knots.version(request.params.knot, request.params.version);
      return definition ? { definition: knotSchema.parse(definition) } : reply.code(404).send(noSuch('version'));
    },
  );

  typed.post(
    '/api/knots/:knot/reading',
    {
      config: { role: 'viewer' },
      schema: {
        tags: ['knots'],
        summary:
          'Read the objects of the members: their fields, which fields correspond, and records to try the ' +
          'definition on',
        params: parameters,
        body: z.object({ whole: z.boolean().default(false) }),
        response: { 200: readingSchema, 404: problemSchema },
      },
    },
    async (request, reply) => {
      const { knot } = request.params;
      const draft = await drafts.find(knot);
      const definition = draft?.definition ?? (await knots.inForce(knot))?.definition;
      if (!definition) return reply.code(404).send(noSuch('knot'));
      return readings.read(knotDraftSchema.parse(definition), draft?.turnedDown ?? [], request.body.whole);
    },
  );

  typed.post(
    '/api/knots/:knot/survey',
    {
      config: { role: 'editor' },
      schema: {
        tags: ['knots'],
        summary:
          'Try the definition under work on all records of its members. The answer is newline-delimited JSON, ' +
          'sent while it is worked out; ending the request ends it',
        params: parameters,
        body: z.object({ learn: z.boolean().default(false) }),
        response: { 404: problemSchema },
      },
    },
    async (request, reply) => {
      const definition =
        (await drafts.find(request.params.knot))?.definition ?? (await knots.inForce(request.params.knot))?.definition;
      if (!definition) return reply.code(404).send(noSuch('knot'));
      const lines = surveyKnot(systems, knotDraftSchema.parse(definition), request.body.learn, systemClock.now());
      const text = Readable.from(inLines(lines));
      return reply.type('application/x-ndjson').send(text as never);
    },
  );
}

async function* inLines(values: AsyncIterable<unknown>): AsyncGenerator<string> {
  for await (const value of values) yield `${JSON.stringify(value)}\n`;
}

/** An identifier from a name, that is not taken yet. */
function freeId(name: string, taken: Set<string>): string {
  const words = name
    .normalize('NFKD')
    .replaceAll(/\p{M}/gu, '')
    .replaceAll(/[^A-Za-z0-9]+/g, ' ')
    .trim()
    .split(' ')
    .map((word, index) => (index === 0 ? word.charAt(0).toLowerCase() : word.charAt(0).toUpperCase()) + word.slice(1));
  const camel = words.join('').slice(0, 34);
  const start = /^[a-z]/.test(camel) ? camel : `knot${camel}`;
  let id = start;
  for (let number = 2; taken.has(id); number += 1) id = `${start}${number}`;
  taken.add(id);
  return id;
}

/** The knots that a definition refers to, with the names of the fields that do. */
function referencesOf({ fields }: KnotDefinition): { knot: string; fields: string[] }[] {
  const byKnot = new Map<string, string[]>();
  for (const { name, refersTo } of fields)
    if (refersTo !== undefined) byKnot.set(refersTo, [...(byKnot.get(refersTo) ?? []), name]);
  return [...byKnot].map(([knot, names]) => ({ knot, fields: names }));
}
