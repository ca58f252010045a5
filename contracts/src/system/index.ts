import { z } from 'zod';
import { filesSystemSchema } from './files.js';
import { groupsSystemSchema } from './groups.js';
import { httpSystemSchema } from './http.js';
import { odataSystemSchema } from './odata.js';
import { checkRows } from './rows.js';
import { sqlSystemSchema } from './sql.js';

export * from './files.js';
export * from './groups.js';
export * from './http.js';
export * from './objects.js';
export * from './odata.js';
export * from './pages.js';
export * from './rows.js';
export * from './signIn.js';
export * from './sql.js';
export * from './times.js';

/** How a system is reached and what is in it: a file that can be exported, imported and shared. It holds no secret. */
export const systemSchema = z
  .discriminatedUnion('kind', [
    httpSystemSchema,
    odataSystemSchema,
    filesSystemSchema,
    sqlSystemSchema,
    groupsSystemSchema,
  ])
  .superRefine((system, context) => {
    if ('rows' in system) checkRows(system, context);
  });
export type System = z.output<typeof systemSchema>;
