import { z } from 'zod';
import { objectPages, systemPages } from './pages.js';

const name = z.string().min(1).max(200);

export const figureKinds = ['total', 'least', 'greatest'] as const;

/** A number or a day of all things in a group: the sum of a field, or its least or greatest value. */
export const figureSchema = z.strictObject({ field: name, how: z.enum(figureKinds) });
export type Figure = z.output<typeof figureSchema>;

/** Fields that every group has; no figure can be called so. */
export const groupFields = { value: 'value', count: 'count', thing: 'thing' } as const;

/**
 * The things of a knot, taken together by one of its fields: a group for each value. By a reference there is one for
 * each thing that can be referred to, also where nothing does.
 */
export const groupObjectSchema = z
  .strictObject({
    /** The knot whose things are taken together, and the shared field of it that they have in common. */
    of: name,
    by: name,
    /** By the names under which records have them. */
    figures: z.record(name.regex(/^[^.]+$/, 'is a name without a full stop'), figureSchema).default({}),
    ...objectPages,
  })
  .superRefine(({ figures }, context) => {
    for (const one of Object.keys(figures))
      if (Object.hasOwn(groupFields, one))
        context.addIssue({ code: 'custom', path: ['figures', one], message: 'every group has a field of this name' });
  });
export type GroupObject = z.output<typeof groupObjectSchema>;

/** What this installation itself knows of its things, counted and added up; nothing is called for it. */
export const groupsSystemSchema = z.strictObject({
  kind: z.literal('groups'),
  name: z.string().min(1).max(200),
  ...systemPages,
  objects: z.record(z.string().min(1).max(200), groupObjectSchema),
});
export type GroupsSystem = z.output<typeof groupsSystemSchema>;
