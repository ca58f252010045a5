import { type DecisionKind, decisionKinds, passingKinds, toldDecisionKinds } from '@anchor-knot/contracts';
import type { SqlConnection } from '../persistence/sql.js';
import {
  busyKnots,
  countWaiting,
  endingAccess,
  type EndedRun,
  longWaiting,
  lostSubscriptions,
  systemsInTrouble,
  takeUntoldRuns,
  kindsThatWait,
} from '../persistence/tables/noticeCases.js';
import type { DecisionDraft } from '../orchestration/decisionDraft.js';
import { usedAllowances } from '../persistence/tables/callBudget.js';
import { closeQuietDecisions, openDecisions } from '../persistence/tables/decisions.js';
import type { NoticeRuleRow } from '../persistence/tables/noticeRules.js';
import {
  beginNotices,
  endNotices,
  type NoticeCase,
  openNotices,
  type OpenNotice,
  repeatNotices,
} from '../persistence/tables/notices.js';
import { type QuietMember, unusuallyQuiet } from '../persistence/tables/readHours.js';
import {
  accessEndsWords,
  allowanceWords,
  certificateEndsWords,
  consentEndsWords,
  type LateKnot,
  lateWords,
  quietWords,
  type UnacknowledgedMember,
  unacknowledgedWords,
} from './noticeWords.js';

/** So many runs are looked at in one go; the others come next. */
const mostRuns = 200;
/** More that waits is told of as that many. */
const mostCounted = 10_000;

/** So many days before access ends it is told of. */
const accessNoticeDays = 14;

/** What is known beside the tables of notices. */
export interface Surroundings {
  readonly knotName: (knot: string) => Promise<string>;
  /** The name of the system of a knot's member. */
  readonly systemOf: (knot: string, member: string) => Promise<string>;
  readonly lateKnots: () => Promise<readonly LateKnot[]>;
  /** Members that have not said in time that they have worked on records. */
  readonly unacknowledged: () => Promise<readonly UnacknowledgedMember[]>;
}

/**
 * Compares what goes on with the notices that are open: what is new begins, what is over ends, and each is kept as a
 * step that is to be told. Everything is found from what others have stored, so nothing that was stored is forgotten,
 * whoever stored it and whatever died meanwhile.
 */
export async function findNotices(
  db: SqlConnection,
  surroundings: Surroundings,
  rules: readonly NoticeRuleRow[],
  now: Date,
): Promise<void> {
  await tellOfRuns(db, surroundings, now);
  const open = new Map((await openNotices(db)).map((notice) => [notice.key, notice]));
  const quiet = await unusuallyQuiet(db, now);
  await askWhyQuiet(db, surroundings, quiet, now);
  const isOfRun = ({ topic }: OpenNotice): boolean => topic === 'run failed' || topic === 'run stopped';
  const lasting = [
    ...(await waitingCases(db, surroundings, open)),
    ...(await longWaitingCases(db, surroundings, rules)),
    ...(await systemCases(db)),
    ...(await accessCases(db, now)),
    ...(await allowanceCases(db, rules, now)),
    ...(await lateCases(surroundings, now)),
    ...(await unacknowledgedCases(surroundings, now)),
    ...(await quietCases(surroundings, quiet, now)),
  ];
  const goesOn = new Set(lasting.map(({ key }) => key));
  await beginNotices(
    db,
    lasting.filter(({ key }) => !open.has(key)),
    now,
    false,
  );
  await repeatNotices(
    db,
    lasting.filter((found) => isLater(found, open.get(found.key))),
  );
  const over = [...open.values()].filter((notice) => !isOfRun(notice) && !goesOn.has(notice.key));
  await endNotices(
    db,
    over.map(({ key, words }) => ({ key, words: `Over: ${words}` })),
    now,
  );
}

/** Only of decisions more can come: what else goes on just goes on. */
function isLater(found: NoticeCase, known: OpenNotice | undefined): boolean {
  return known !== undefined && found.topic === 'decision' && found.latest > known.latest;
}

async function tellOfRuns(db: SqlConnection, { knotName }: Surroundings, now: Date): Promise<void> {
  const runs = await takeUntoldRuns(db, mostRuns);
  if (runs.length === 0) return;
  const open = new Set((await openNotices(db)).map(({ key }) => key));
  for (const run of runs) {
    const name = await knotName(run.knot);
    if (run.state === 'succeeded' || run.state === 'succeeded in part') {
      const ended = [`run failed:${run.knot}`, `run stopped:${run.knot}`].filter((key) => open.delete(key));
      const words = `${name}: a run came to a good end again.`;
      await endNotices(
        db,
        ended.map((key) => ({ key, words })),
        now,
      );
    }
    const found = caseOfRun(run, name);
    if (!found) continue;
    const lasts = found.topic === 'run failed' || found.topic === 'run stopped';
    if (open.has(found.key)) await repeatNotices(db, [found]);
    else await beginNotices(db, [found], now, !lasts);
    if (lasts) open.add(found.key);
  }
}

function caseOfRun({ id, knot, state, words, endedAt }: EndedRun, name: string): NoticeCase | undefined {
  const common = { knot, path: `/runs/${id}`, latest: endedAt };
  const said = words ?? '';
  switch (state) {
    case 'failed':
      return { ...common, topic: 'run failed', key: `run failed:${knot}`, words: `${name}: the run failed. ${said}` };
    case 'stopped by a guard':
    case 'stopped by a check': {
      const by = state.slice('stopped by '.length);
      return {
        ...common,
        topic: 'run stopped',
        key: `run stopped:${knot}`,
        words: `${name}: ${by} stopped the run, and nothing was written. ${said}`,
      };
    }
    case 'missed':
      return { ...common, topic: 'run missed', key: `run missed:${id}`, words: `${name}: ${said}` };
    case 'succeeded in part':
      return { ...common, topic: 'run in part', key: `run in part:${id}`, words: `${name}: ${said}` };
    case 'succeeded':
    case 'stopped':
    case 'waiting':
    case 'running':
      return undefined;
    default:
      return state satisfies never;
  }
}

async function waitingCases(
  db: SqlConnection,
  { knotName }: Surroundings,
  open: ReadonlyMap<string, OpenNotice>,
): Promise<NoticeCase[]> {
  const busy = await busyKnots(db);
  const cases: NoticeCase[] = [];
  for (const waiting of await kindsThatWait(db, toldDecisionKinds)) {
    const { knot, kind, latest } = waiting;
    const key = `decision:${knot}:${kind}`;
    const known = open.get(key);
    if (!known && busy.has(knot)) continue;
    const common = { key, topic: 'decision' as const, kind, knot, path: decisionsPath(knot, kind) };
    if (known && (known.latest >= latest || busy.has(knot)))
      cases.push({ ...common, latest: known.latest, words: known.words });
    else {
      const { all, fresh } = await countWaiting(db, waiting, known?.latest ?? new Date(0), mostCounted);
      const words = `${await knotName(knot)}: ${waitWords(kind, all)}`;
      cases.push({ ...common, latest, words: known ? `${words}, ${fresh} of them new.` : `${words}.` });
    }
  }
  return cases;
}

function waitWords(kind: DecisionKind, count: number): string {
  const said = count === mostCounted ? `${mostCounted} or more` : String(count);
  const what = decisionKinds[kind].words[count === 1 ? 0 : 1].replace(/ that waits?$/, '');
  return `${said} ${what} ${count === 1 ? 'waits' : 'wait'}`;
}

const decisionsPath = (knot: string, kind: DecisionKind): string =>
  `/decisions?${new URLSearchParams({ knot, kind }).toString()}`;

/** Each rule says itself for how long a decision may wait. */
async function longWaitingCases(
  db: SqlConnection,
  { knotName }: Surroundings,
  rules: readonly NoticeRuleRow[],
): Promise<NoticeCase[]> {
  const cases = new Map<string, NoticeCase>();
  for (const { id, rule } of rulesOf(rules, 'waits long'))
    for (const { knot, since } of await longWaiting(db, kindsOf(rule), rule.waitsHours)) {
      const key = `waits long:${id}:${knot}`;
      const words = `${await knotName(knot)}: a decision has waited for more than ${rule.waitsHours} h.`;
      const path = `/decisions?${new URLSearchParams({ knot }).toString()}`;
      if (!cases.has(key)) cases.set(key, { key, topic: 'waits long', knot, rule: id, words, path, latest: since });
    }
  return [...cases.values()];
}

export function kindsOf(rule: NoticeRuleRow['rule']): readonly DecisionKind[] {
  if (rule.decisionKinds.length > 0) return rule.decisionKinds;
  return toldDecisionKinds.filter((kind) => !passingKinds.has(kind));
}

function rulesOf(rules: readonly NoticeRuleRow[], topic: NoticeCase['topic']): readonly NoticeRuleRow[] {
  return rules.filter(({ rule }) => rule.isOn && rule.topics.includes(topic));
}

async function systemCases(db: SqlConnection): Promise<NoticeCase[]> {
  const troubled = (await systemsInTrouble(db)).map(({ system, name, says, at }): NoticeCase => ({
    key: `system in trouble:${system}`,
    topic: 'system in trouble',
    system,
    words: `${name} does not answer as it should: ${says}`,
    path: `/systems/${encodeURIComponent(system)}`,
    latest: at,
  }));
  const lost = (await lostSubscriptions(db)).map(({ system, name, objects, at }): NoticeCase => ({
    key: `subscription lost:${system}`,
    topic: 'subscription lost',
    system,
    words: `${name} does not tell of changes in ${objects} any more; it is asked for them meanwhile.`,
    path: `/systems/${encodeURIComponent(system)}`,
    latest: at,
  }));
  return [...troubled, ...lost];
}

async function accessCases(db: SqlConnection, now: Date): Promise<NoticeCase[]> {
  const wordsOf = { access: accessEndsWords, certificate: certificateEndsWords, consent: consentEndsWords };
  return (await endingAccess(db, now, accessNoticeDays)).map(({ system, name, endsOn, what }): NoticeCase => ({
    key: `${what} ends:${system}:${endsOn}`,
    topic: 'access ends',
    system,
    words: wordsOf[what](name, endsOn, now),
    path: `/systems/${encodeURIComponent(system)}${what === 'access' ? '/change' : ''}`,
    latest: now,
  }));
}

async function allowanceCases(db: SqlConnection, rules: readonly NoticeRuleRow[], now: Date): Promise<NoticeCase[]> {
  const wanted = rulesOf(rules, 'allowance');
  if (wanted.length === 0) return [];
  const used = await usedAllowances(db);
  const day = now.toISOString().slice(0, 10);
  return wanted.flatMap(({ id, rule }) =>
    used
      .filter((allowance) => allowance.used * 100 >= allowance.perDay * rule.usedPercent)
      .map((allowance): NoticeCase => ({
        key: `allowance:${id}:${allowance.system}:${day}`,
        topic: 'allowance',
        system: allowance.system,
        rule: id,
        words: allowanceWords(allowance, now, rule.zone),
        path: `/systems/${encodeURIComponent(allowance.system)}`,
        latest: now,
      })),
  );
}

/** A person says that it is so; it closes by itself as soon as something changes. Once a day is enough. */
async function askWhyQuiet(
  db: SqlConnection,
  { systemOf }: Surroundings,
  members: readonly QuietMember[],
  now: Date,
): Promise<void> {
  await closeQuietDecisions(db, members, now);
  for (const { knot, member, usual, since } of members) {
    const words = quietWords(await systemOf(knot, member), { usual, since });
    const draft: DecisionDraft = {
      kind: 'unusually quiet',
      member,
      fingerprint: since.toISOString().slice(0, 10),
      says: `${words.charAt(0).toUpperCase()}${words.slice(1)} See whether it is at work and still tells of changes.`,
      detail: { usual, since: since.toISOString() },
    };
    await openDecisions(db, knot, [draft], now.getTime());
  }
}

async function quietCases(
  { knotName, systemOf }: Surroundings,
  members: readonly QuietMember[],
  now: Date,
): Promise<NoticeCase[]> {
  const cases: NoticeCase[] = [];
  for (const quiet of members)
    cases.push({
      key: `unusually quiet:${quiet.knot}:${quiet.member}`,
      topic: 'unusually quiet',
      knot: quiet.knot,
      words: `${await knotName(quiet.knot)}: ${quietWords(await systemOf(quiet.knot, quiet.member), quiet)}`,
      path: `/knots/${encodeURIComponent(quiet.knot)}/timing`,
      latest: now,
    });
  return cases;
}

const unacknowledgedPath = (knot: string, member: string): string =>
  `/knots/${encodeURIComponent(knot)}/records?${new URLSearchParams({ member, list: 'unacknowledged' }).toString()}`;

async function unacknowledgedCases(
  { knotName, systemOf, unacknowledged }: Surroundings,
  now: Date,
): Promise<NoticeCase[]> {
  const cases: NoticeCase[] = [];
  for (const { knot, member, late, minutes } of await unacknowledged())
    cases.push({
      key: `not acknowledged:${knot}:${member}`,
      topic: 'not acknowledged',
      knot,
      words: `${await knotName(knot)}: ${unacknowledgedWords(await systemOf(knot, member), late, minutes)}`,
      path: unacknowledgedPath(knot, member),
      latest: now,
    });
  return cases;
}

async function lateCases({ knotName, lateKnots }: Surroundings, now: Date): Promise<NoticeCase[]> {
  const cases: NoticeCase[] = [];
  for (const late of await lateKnots())
    cases.push({
      key: `late:${late.knot}`,
      topic: 'late',
      knot: late.knot,
      words: lateWords(await knotName(late.knot), late, now),
      path: `/knots/${encodeURIComponent(late.knot)}/timing`,
      latest: now,
    });
  return cases;
}
