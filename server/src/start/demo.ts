import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import {
  type Credential,
  knotFileSchema,
  type NoticeRule,
  type Pennant,
  type Person,
  systemSchema,
} from '@anchor-knot/contracts';
import type { Knot, Series, Timing } from '@anchor-knot/core';
import { movedTo, type Place } from '../systems/systems.js';
import { countPeople } from '../persistence/tables/people.js';
import { keepSeries } from '../persistence/tables/seriesLists.js';
import type { InstallationParts } from '../installationParts.js';
import { addPerson } from '../signIn/signInRoutes.js';

export interface StandIn {
  readonly system: Exclude<keyof typeof demoSystems, 'counted'>;
  readonly place: Place;
  /** None for folders. */
  readonly credential: Credential | undefined;
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

/** The systems of the demo's company. */
export const demoSystems = {
  fernhill: { name: 'Fernhill CRM', pennant: { pattern: 'halves', colour: 'petrol', letters: 'FC' } },
  marketRow: { name: 'Market Row', pennant: { pattern: 'saltire', colour: 'vermilion', letters: 'MR' } },
  bellpull: { name: 'Bellpull Desk', pennant: { pattern: 'disc', colour: 'kelp', letters: 'BD' } },
  pegline: { name: 'Pegline Boards', pennant: { pattern: 'chequer', colour: 'plum', letters: 'PB' } },
  coldharbour: { name: 'Coldharbour ERP', pennant: { pattern: 'chevron', colour: 'ink', letters: 'CE' } },
  coldharbourOData: { name: 'Coldharbour OData', pennant: { pattern: 'chevron', colour: 'kelp', letters: 'CO' } },
  loadingBay: { name: 'Loading Bay', pennant: { pattern: 'quarters', colour: 'brass', letters: 'LB' } },
  granary: { name: 'Granary', pennant: { pattern: 'bars', colour: 'brass', letters: 'GY' } },
  counted: { name: 'Counted here', pennant: { pattern: 'border', colour: 'plum', letters: 'CH' } },
} as const satisfies Record<string, { name: string; pennant: Pennant }>;

/** What happens at the systems that tell of it crosses at once; the ERP is asked, and everything is seen at night. */
const demoTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['02:00'] },
  lateAfterMinutes: 15,
  triggers: {
    crm: { kind: 'events', otherwiseSeconds: 60 },
    shop: { kind: 'events', otherwiseSeconds: 60 },
    erp: { kind: 'asking', seconds: 60 },
  },
};

/** An order refers to its customer: where both run, it comes after them. */
const orderTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['02:30'] },
  lateAfterMinutes: 15,
  after: ['customers'],
  triggers: {
    shop: { kind: 'events', otherwiseSeconds: 300 },
    erp: { kind: 'asking', seconds: 60 },
    lines: { kind: 'asking', seconds: 300 },
  },
};

const lineTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['03:00'] },
  lateAfterMinutes: 15,
  after: ['orders'],
  triggers: { shop: { kind: 'events', otherwiseSeconds: 300 }, erp: { kind: 'asking', seconds: 60 } },
};

const staffTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['03:30'] },
  triggers: { desk: { kind: 'asking', seconds: 3600 }, erp: { kind: 'asking', seconds: 3600 } },
};

const requesterTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['03:40'] },
  lateAfterMinutes: 15,
  triggers: { desk: { kind: 'events', otherwiseSeconds: 300 }, crm: { kind: 'events', otherwiseSeconds: 300 } },
};

/** Boards cannot say what changed: they are listed each time. */
const ticketTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['04:00'] },
  lateAfterMinutes: 15,
  after: ['people', 'requesters', 'orders'],
  triggers: { desk: { kind: 'events', otherwiseSeconds: 300 }, boards: { kind: 'asking', seconds: 300 } },
};

/** What tickets have in common is counted when they have changed. */
const groupTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['04:10'] },
  triggers: { counted: { kind: 'asking', seconds: 300 }, boards: { kind: 'asking', seconds: 3600 } },
};

/** What is said about tickets: it is asked for where nobody tells of it. */
const commentTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['04:30'] },
  after: ['tickets'],
  triggers: { desk: { kind: 'events', otherwiseSeconds: 300 }, boards: { kind: 'asking', seconds: 300 } },
};

/** Each stands under what it is part of; nobody tells of changes there. */
const projectTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['04:20'] },
  lateAfterMinutes: 15,
  after: ['people'],
  triggers: { boards: { kind: 'asking', seconds: 300 }, erp: { kind: 'asking', seconds: 60 } },
};

/** Files are looked for; nobody tells of them. */
const partnerTiming: Timing = {
  zone: 'Europe/London',
  complete: { kind: 'days', on: { kind: 'every', days: 1 }, at: ['05:00'] },
  triggers: { bay: { kind: 'asking', seconds: 300 } },
};
const leadTiming: Timing = { ...partnerTiming, after: ['partners'] };

/** In the order in which they are to run first. */
const demoKnots = [
  { file: 'customers', timing: demoTiming },
  { file: 'orders', timing: orderTiming },
  { file: 'orderLines', timing: lineTiming },
  { file: 'people', timing: staffTiming },
  { file: 'requesters', timing: requesterTiming },
  { file: 'projects', timing: projectTiming },
  { file: 'tickets', timing: ticketTiming },
  { file: 'ticketGroups', timing: groupTiming },
  { file: 'ticketComments', timing: commentTiming },
  { file: 'partners', timing: partnerTiming },
  { file: 'partnerLeads', timing: leadTiming },
] as const;

/** A ticket that is carried to the works has a number of its own there. */
const demoSeries: Readonly<Record<string, Series>> = {
  service: { name: 'Service numbers', prefix: 'S', digits: 4, yearly: true, zone: 'Europe/London' },
};

/** Who hears of what: at once what stops, in the morning what waits. */
const demoRules: Readonly<Record<string, NoticeRule>> = {
  '0193a0de-7a11-7c00-8000-000000000001': {
    name: 'What stops',
    isOn: true,
    topics: [
      'run failed',
      'run stopped',
      'run missed',
      'late',
      'unusually quiet',
      'system in trouble',
      'subscription lost',
    ],
    decisionKinds: [],
    waitsHours: 24,
    usedPercent: 80,
    knots: null,
    recipients: [{ kind: 'mail', address: 'ottilie@hazelmoor.example' }],
    rhythm: { kind: 'at once' },
    zone: 'Europe/London',
    isRepeated: false,
    tellsEnd: true,
    mostPerHour: 12,
  },
  '0193a0de-7a11-7c00-8000-000000000002': {
    name: 'Morning list',
    isOn: true,
    topics: ['run in part', 'decision', 'waits long', 'allowance'],
    decisionKinds: [],
    waitsHours: 48,
    usedPercent: 80,
    knots: null,
    recipients: [
      { kind: 'mail', address: 'halima@hazelmoor.example' },
      { kind: 'mail', address: 'bram@hazelmoor.example' },
    ],
    rhythm: { kind: 'daily', at: '07:30' },
    zone: 'Europe/London',
    isRepeated: true,
    tellsEnd: false,
    mostPerHour: 12,
  },
};

/**
 * The first administrator and, with stand-ins, the demo's systems and knot. What is there already is left as it is, but
 * for addresses.
 * @param byHand the knot runs by hand only
 * @param publicAddress where the stand-ins reach the server that is to be started
 */
export async function loadDemo(
  parts: InstallationParts,
  standIns: readonly StandIn[],
  { byHand, publicAddress }: { readonly byHand: boolean; readonly publicAddress: string },
): Promise<void> {
  if ((await countPeople(parts.data)) === 0) {
    for (const { password, ...person } of standIns.length > 0 ? demoPeople : demoPeople.slice(0, 1))
      await addPerson(parts.data, person, password);
  }
  if (standIns.length === 0) return;
  const folder = join(import.meta.dirname, '../../demo');
  const descriptions = JSON.parse(readFileSync(join(folder, 'systems.json'), 'utf8')) as Record<
    keyof typeof demoSystems,
    Record<string, unknown>
  >;
  for (const { system, place, credential } of standIns) {
    const known = await parts.systems.find(system);
    if (known) await parts.systems.moveTo(known, place, credential);
    else {
      const description = movedTo(systemSchema.parse(descriptions[system]), place);
      await parts.systems.save({
        id: system,
        description,
        pennant: demoSystems[system].pennant,
        credential,
      });
    }
  }
  if (!(await parts.systems.find('counted')))
    await parts.systems.save({
      id: 'counted',
      description: systemSchema.parse(descriptions.counted),
      pennant: demoSystems.counted.pennant,
    });
  const maker = demoPeople[0]?.name ?? '';
  const isNew = (await parts.knots.ids()).length === 0;
  if (isNew)
    for (const [id, series] of Object.entries(demoSeries))
      await keepSeries(parts.data, { id, series, next: undefined, revision: 0 }, maker, Date.now());
  for (const { file, timing } of demoKnots) {
    const { knot } = knotFileSchema.parse(JSON.parse(readFileSync(join(folder, `${file}.knot.json`), 'utf8')));
    if (!(await parts.knots.inForce(knot.id))) await addKnot(parts, knot, byHand ? undefined : timing, publicAddress);
  }
  if (!isNew) return;
  for (const [id, rule] of Object.entries(demoRules)) await parts.notices.keep(id, rule, 0, maker, new Date());
}

/** @param timing when it runs by itself; by hand only, where it is left out */
async function addKnot(
  { knots, systems, inbox, timings }: InstallationParts,
  knot: Knot,
  timing: Timing | undefined,
  publicAddress: string,
): Promise<void> {
  const maker = demoPeople[0]?.name ?? '';
  await knots.create(knot, maker);
  if (!timing) return;
  for (const { id, system, object } of knot.members) {
    const row = await systems.find(system);
    if (!row || timing.triggers[id]?.kind !== 'events' || (await inbox.subscriptionOf(row, object))) continue;
    await inbox.subscribe(row, object, publicAddress);
  }
  await timings.keep(knot, 0, timing, maker, Date.now());
}
