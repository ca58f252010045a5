import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { type Credential, httpSystemSchema, knotFileSchema, type Pennant, type Person } from '@anchor-knot/contracts';
import { UserEntity } from '../persistence/entities/entities.js';
import type { InstallationParts } from '../installationParts.js';
import { addPerson } from '../signIn/signInRoutes.js';

export interface StandIn {
  readonly system: 'fernhill' | 'marketRow';
  readonly address: string;
  readonly credential: Credential;
}

export interface DemoPerson extends Person {
  readonly password: string;
}

/** The people of the demo, one per role. Their passwords are printed at start and are good for nothing else. */
export const demoPeople: readonly DemoPerson[] = [
  { name: 'Ottilie Brandt', email: 'ottilie@hazelmoor.example', role: 'administrator', password: 'glasshouse-admin' },
  { name: 'Halima Boye', email: 'halima@hazelmoor.example', role: 'editor', password: 'glasshouse-editor' },
  { name: 'Bram Quarrie', email: 'bram@hazelmoor.example', role: 'operator', password: 'glasshouse-operator' },
  { name: 'Wren Ashdown', email: 'wren@hazelmoor.example', role: 'viewer', password: 'glasshouse-viewer' },
];

const pennants: Record<StandIn['system'], Pennant> = {
  fernhill: { pattern: 'halves', colour: 'petrol', letters: 'FC' },
  marketRow: { pattern: 'saltire', colour: 'vermilion', letters: 'MR' },
};

/** The first administrator and, with stand-ins, the demo's systems and knot. What is there already is left as it is, but for addresses. */
export async function loadDemo(parts: InstallationParts, standIns: readonly StandIn[]): Promise<void> {
  if ((await parts.data.getRepository(UserEntity).count()) === 0) {
    for (const { password, ...person } of standIns.length > 0 ? demoPeople : demoPeople.slice(0, 1)) await addPerson(parts.data, person, password);
  }
  if (standIns.length === 0) return;
  const folder = join(import.meta.dirname, '../../demo');
  const descriptions = JSON.parse(readFileSync(join(folder, 'systems.json'), 'utf8')) as Record<StandIn['system'], Record<string, unknown>>;
  for (const { system, address, credential } of standIns) {
    const description = httpSystemSchema.parse({ ...descriptions[system], address });
    await parts.systems.save({ id: system, description, pennant: pennants[system], pageAddress: address, credential });
  }
  const { knot } = knotFileSchema.parse(JSON.parse(readFileSync(join(folder, 'customers.knot.json'), 'utf8')));
  if (!(await parts.knots.inForce(knot.id))) await parts.knots.create(knot, demoPeople[0]?.name ?? '');
}
