/** Visitors as a process: `node visitors/main.js`, with the systems as JSON in `VISITED_SYSTEMS`. */
import { seededRandom } from '../kit/faults.js';
import { visit, type VisitedSystem } from './visitors.js';

const pauseMs = 15_000;
const ending = new AbortController();
process.on('SIGTERM', () => ending.abort());
process.on('SIGINT', () => ending.abort());
const systems = JSON.parse(process.env.VISITED_SYSTEMS ?? '[]') as VisitedSystem[];
console.log(`visiting ${systems.map(({ address }) => address).join(', ')}`);
await visit(systems, seededRandom(process.pid), pauseMs, ending.signal);
