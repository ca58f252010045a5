import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { Liquid } from 'liquidjs';
import { DateTime } from 'luxon';
import { noticeTopics, type NoticeTopic } from '@anchor-knot/contracts';
import type { NoticeRuleRow } from '../persistence/tables/noticeRules.js';
import type { NoticeStep } from '../persistence/tables/notices.js';

const folder = join(import.meta.dirname, '../../templates');
const html = new Liquid({ outputEscape: 'escape' });
const plain = new Liquid();
const htmlTemplate = html.parse(readFileSync(join(folder, 'notice.html.liquid'), 'utf8'));
const textTemplate = plain.parse(readFileSync(join(folder, 'notice.txt.liquid'), 'utf8'));
/** More are told of by their number. */
const mostLines = 40;
const longestSubject = 150;

export interface RenderedNotice {
  readonly subject: string;
  readonly text: string;
  readonly html: string;
  /** For programs: the same as data. */
  readonly body: object;
}

/**
 * What is told of some steps, for people and for programs.
 * @param address where people reach this installation
 */
export async function renderNotice(
  { id, rule }: Pick<NoticeRuleRow, 'id' | 'rule'>,
  steps: readonly Pick<NoticeStep, 'step' | 'topic' | 'words' | 'at' | 'path' | 'knot' | 'system'>[],
  address: string,
): Promise<RenderedNotice> {
  const urlOf = (path: string): string => new URL(path, address).href;
  const lines = steps.slice(0, mostLines).map(({ words, at, path }) => ({
    words: oneLine(words),
    at: DateTime.fromJSDate(at, { zone: rule.zone }).toFormat('d LLLL yyyy, HH:mm ZZZZ'),
    url: urlOf(path),
  }));
  const subject = subjectOf(steps.map(({ words }) => oneLine(words)));
  const values = {
    heading: subject,
    lines,
    more: steps.length - lines.length,
    allUrl: urlOf('/notices'),
    ruleName: rule.name,
    topics: listed(rule.topics.map((topic: NoticeTopic) => noticeTopics[topic].words)),
    ruleUrl: urlOf(`/notices/told/${id}`),
  };
  return {
    subject,
    text: String(await plain.render(textTemplate, values)),
    html: String(await html.render(htmlTemplate, values)),
    body: {
      type: 'notices',
      rule: rule.name,
      notices: steps.map(({ step, topic, words, at, path, knot, system }) => ({
        step,
        topic,
        words,
        at: at.toISOString(),
        url: urlOf(path),
        ...(knot === null ? {} : { knot }),
        ...(system === null ? {} : { system }),
      })),
    },
  };
}

function subjectOf(words: readonly string[]): string {
  const [first = ''] = words;
  const subject = words.length === 1 ? first : `${words.length} notices: ${first}`;
  return subject.length > longestSubject ? `${subject.slice(0, longestSubject - 1)}…` : subject;
}

/** What a system or a record says may have any characters; a subject is one line (RFC 5322 section 2.2). */
export function oneLine(words: string): string {
  return words.replace(/[\p{Cc}\p{Zl}\p{Zp}\s]+/gu, ' ').trim();
}

function listed(parts: readonly string[]): string {
  return parts.length < 2 ? parts.join('') : `${parts.slice(0, -1).join(', ')} and ${parts.at(-1)}`;
}
