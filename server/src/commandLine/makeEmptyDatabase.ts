/** A step of the build: an empty database of the present tables, of which the command line's first runs take a copy. */
import { rmSync } from 'node:fs';
import { EmbeddedDatabase, emptyDatabase } from '../persistence/embeddedDatabase.js';

rmSync(emptyDatabase, { recursive: true, force: true });
await (await EmbeddedDatabase.open(emptyDatabase)).close();
