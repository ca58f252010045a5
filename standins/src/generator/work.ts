import { seededRandom } from '../kit/faults.js';
import type { CustomerData } from './customers.js';

export interface Requester {
  readonly id: string;
  readonly full_name: string;
  readonly email: string | null;
  readonly organisation: string | null;
  readonly phone: string | null;
  readonly touched: number;
  readonly customer: string;
}
export interface Ticket {
  readonly id: string;
  readonly subject: string;
  readonly body: string;
  readonly state: string;
  readonly priority: number;
  readonly requester_id: number;
  readonly agent: string | null;
  readonly order_ref: string | null;
  /** What was spent on it. */
  readonly hours: number | null;
  /** Whoever carries it to the works gives it one. */
  readonly service_no: string | null;
  readonly opened: number;
  readonly touched: number;
}
/** What somebody has said about a ticket: it is added, and never changed. */
export interface Comment {
  readonly id: string;
  readonly ticket_id: number;
  readonly by: string;
  readonly text: string;
  /** In ISO 8601. */
  readonly written: string;
  /** Of whoever carries it over. */
  readonly ref: string | null;
  readonly touched: number;
}
/** The same on the boards, under a row. */
export interface BoardNote {
  readonly id: string;
  readonly row: string;
  readonly by: string;
  readonly text: string;
  readonly at: string;
  readonly ref: string | null;
}
export interface BoardRow {
  readonly id: string;
  readonly parent: string | null;
  readonly cells: Readonly<Record<string, string | null>>;
}

export const ticketStates = ['new', 'open', 'waiting', 'solved', 'closed'] as const;
export const agents = [
  { id: 'halima.boye', full_name: 'Halima Boye', team: 'sales' },
  { id: 'sunniva.dahl', full_name: 'Sunniva Dahl', team: 'purchasing' },
  { id: 'piers.loxley', full_name: 'Piers Loxley', team: 'sales' },
] as const;
const agentIds = agents.map(({ id }) => id);
/** She has left: her name stands in tickets, and nowhere else. */
export const agentWhoLeft = 'odell.marsh';
/** A team that raises frames: on the boards it leads as people do. */
export const crew = 'crew.north';
const frameTask = 4;
const subjects = [
  'Pane arrived cracked',
  'Vent does not close',
  'When will it be delivered',
  'Invoice goes to the wrong address',
  'Gutter bracket missing',
  'Door sticks in the rain',
  'Order a second staging bench',
  'Change of phone number',
];
const tasks = [
  'Survey the site',
  'Agree the foundation',
  'Order the glass',
  'Deliver the frame',
  'Raise the frame',
  'Glaze the roof',
  'Fit vents and doors',
  'Hand over',
  'Send the invoice',
  'Ask how it went',
];
const answers = [
  'We shall look at it tomorrow morning.',
  'The customer sent a picture: the seal is torn.',
  'Rang back, nobody there.',
  'A new part is ordered.',
];
const firstDay = Date.UTC(2026, 2, 2);
const dayMs = 86_400_000;

const agentOf = (ticket: number, agent: string | null): string | null =>
  agent !== null && ticket % 23 === 7 ? agentWhoLeft : agent;
const leadOf = (project: number, task: number, lead: string | null): string | null =>
  task === frameTask && project % 3 === 0 ? crew : lead;

/**
 * Tickets and their requesters, projects and their tasks, about the same customers. The same options give the same
 * data.
 */
export function generateWork(
  { customers }: CustomerData,
  options: { readonly seed: number; readonly tickets: number; readonly projects: number; readonly tasksEach: number },
) {
  const random = seededRandom(options.seed);
  const pick = <T>(items: readonly T[]): T => items[Math.floor(random() * items.length)] as T;
  const requesters: Requester[] = [];
  for (const [index, of] of customers.entries()) {
    if (random() < 0.6) continue;
    requesters.push({
      id: String(5001 + requesters.length),
      full_name: random() < 0.1 ? `${of.lastName}, ${of.firstName}` : `${of.firstName} ${of.lastName}`,
      email: random() < 0.06 ? null : of.email,
      organisation: random() < 0.3 ? null : of.company,
      phone: random() < 0.5 ? null : `+${{ GB: '44', DE: '49', FR: '33', IE: '353' }[of.country] ?? '44'}${of.digits}`,
      touched: Math.floor((firstDay + random() * 200 * dayMs) / 1000),
      customer: `c${index + 1}`,
    });
  }
  const tickets = Array.from({ length: options.tickets }, (_, index): Ticket => {
    const opened = Math.floor((firstDay + (index / options.tickets) * 250 * dayMs) / 1000);
    return {
      id: String(8001 + index),
      subject: pick(subjects),
      body: `Hello, ${pick(subjects).toLowerCase()}. Could somebody look at it? 🌱`,
      state: pick(ticketStates),
      priority: 1 + Math.floor(random() * 4),
      requester_id: Number(pick(requesters).id),
      agent: agentOf(index, random() < 0.2 ? null : pick(agentIds)),
      order_ref: random() < 0.5 ? null : String(260_000_001 + Math.floor(random() * 1200)),
      hours: null,
      service_no: null,
      opened,
      touched: opened + Math.floor(random() * 20 * 86_400),
    };
  });
  // Of what is carried to the works: two each, for every second of them; a month lies between the two.
  const carried = tickets.filter(({ priority, state }) => priority <= 2 && (state === 'open' || state === 'waiting'));
  const comments = carried
    .filter((_, index) => index % 2 === 0)
    .flatMap((ticket, index) =>
      [0, 1].map((place): Comment => {
        const touched = ticket.opened + 3600 + place * 30 * 86_400;
        return {
          id: String(9001 + index * 2 + place),
          ticket_id: Number(ticket.id),
          by: ticket.agent ?? agents[0].id,
          text: answers[(index + place) % answers.length] as string,
          written: new Date(touched * 1000).toISOString(),
          ref: null,
          touched,
        };
      }),
    );
  const rows: BoardRow[] = [];
  const german = (time: number): string => new Date(time).toISOString().slice(0, 10).split('-').reverse().join('.');
  for (let project = 0; project < options.projects; project += 1) {
    const of = pick(customers);
    const start = firstDay + project * 8 * dayMs;
    const id = `R${4001 + rows.length}`;
    rows.push({
      id,
      parent: null,
      cells: {
        title: `${of.company}: greenhouse`,
        stage: pick(['planned', 'building', 'done']),
        lead: pick(agentIds),
        start: german(start),
        end: german(start + 60 * dayMs),
        budget: `${(3000 + Math.floor(random() * 300) * 100).toLocaleString('de-DE')},00`,
        client: of.company,
      },
    });
    for (let task = 0; task < options.tasksEach; task += 1) {
      rows.push({
        id: `R${4001 + rows.length}`,
        parent: id,
        cells: {
          title: tasks[task % tasks.length] as string,
          stage: pick(['to do', 'doing', 'done']),
          lead: leadOf(project, task, random() < 0.2 ? null : pick(agentIds)),
          start: german(start + task * 6 * dayMs),
          end: german(start + (task * 6 + 4) * dayMs),
          budget: null,
          client: null,
        },
      });
    }
  }
  // Under it stand the tasks that come from tickets.
  rows.push({
    id: `R${4001 + rows.length}`,
    parent: null,
    cells: { title: 'Service desk', stage: 'building', lead: null, start: null, end: null, budget: null, client: null },
  });
  return { requesters, tickets, comments, rows };
}
