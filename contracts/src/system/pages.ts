import { z } from 'zod';

const webAddress = z.url({ protocol: /^https?$/ }).max(1000);
/** Below the system's page; `//host` would lead elsewhere. */
const pathBelow = z
  .string()
  .max(1000)
  .regex(/^\/(?!\/)\S*$/);

function pageAddress(says: string) {
  return z.union([webAddress, pathBelow], { error: says });
}

/** Of a system of any kind: the page at which people work with it. */
export const systemPages = { page: webAddress.optional() };

/**
 * Of an object of any kind: where people see one record, with `{key}` where its key stands, and all of them. A whole
 * address, or a path at the system's page.
 */
export const objectPages = {
  recordPage: pageAddress('is neither an address nor a path that begins with /')
    .refine((page) => page.includes('{key}'), 'does not say where the key stands: {key}')
    .optional(),
  listPage: pageAddress('is neither an address nor a path that begins with /').optional(),
};

export interface ObjectPages {
  readonly recordPage?: string | undefined;
  readonly listPage?: string | undefined;
}
