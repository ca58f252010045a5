import { type KeptNoticeRule, noticeTopics, type NoticeRule } from '@anchor-knot/contracts';
import { listed } from '../../words/sentences';

/** Who is told of what, and how, in one sentence. @param knotNames by id */
export function ruleSentence(rule: NoticeRule, knotNames: ReadonlyMap<string, string>): string {
  const topics = listed(rule.topics.map((topic) => topicWords(topic, rule)));
  const knots = rule.knots === null ? '' : `, in ${listed(rule.knots.map((knot) => knotNames.get(knot) ?? knot))}`;
  const are = rule.recipients.length > 1 ? 'are' : 'is';
  return `${recipientWords(rule)} ${are} told ${rhythmWords(rule)} of ${topics}${knots}.`;
}

/** The first of them by address, the others by number. */
export function recipientWords({ recipients }: NoticeRule): string {
  const [first, ...others] = recipients;
  if (!first) return 'Nobody';
  return others.length === 0 ? first.address : `${first.address} and ${others.length} more`;
}

export function rhythmWords({ rhythm, zone }: Pick<KeptNoticeRule['rule'], 'rhythm' | 'zone'>): string {
  switch (rhythm.kind) {
    case 'at once':
      return 'at once';
    case 'hourly':
      return 'once an hour';
    case 'daily':
      return `each day at ${rhythm.at} (${zone})`;
    default:
      return rhythm satisfies never;
  }
}

function topicWords(topic: NoticeRule['topics'][number], { waitsHours, usedPercent }: NoticeRule): string {
  if (topic === 'waits long') return `decisions that have waited for more than ${waitsHours} h`;
  if (topic === 'allowance') return `systems of which ${usedPercent} % of the day’s calls are used`;
  return noticeTopics[topic].words;
}
