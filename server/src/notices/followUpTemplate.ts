import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { Liquid, type LiquidError } from 'liquidjs';
import type { Knot, Shared } from '@anchor-knot/core';
import { type FollowUp, templateNames } from '@anchor-knot/contracts';
import { oneLine } from './renderNotice.js';

/** Templates are other people's: they read no files, and end soon whatever stands in them. */
const limits = { templates: {}, parseLimit: 20_000, renderLimit: 500, memoryLimit: 1_000_000 };
const plain = new Liquid(limits);
const folder = join(import.meta.dirname, '../../templates');
const framed = new Liquid({ outputEscape: 'escape' });
const frame = framed.parse(readFileSync(join(folder, 'followUp.html.liquid'), 'utf8'));
const longestSubject = 300;
const longestText = 50_000;

/** What a template is given. */
export interface TemplateValues extends Readonly<Record<keyof typeof templateNames, string>> {
  readonly fields: Readonly<Record<string, string>>;
}

export interface RenderedFollowUp {
  readonly subject: string;
  readonly text: string;
  readonly html: string;
}

/**
 * What is wrong with the templates of a follow-up: what cannot be read, and names that are not there or are of fields
 * that are sensitive.
 */
export function problemsOfTemplates(followUp: Pick<FollowUp, 'subject' | 'text'>, { fields }: Knot): string[] {
  return (['subject', 'text'] as const).flatMap((part) => {
    const where = part === 'subject' ? 'The subject' : 'The text';
    try {
      const named = plain.globalVariableSegmentsSync(plain.parse(followUp[part]));
      return named.flatMap((segments) => problemOfName(where, segments.map(String), fields) ?? []);
    } catch (error) {
      return [`${where} cannot be read: ${(error as LiquidError).message}`];
    }
  });
}

function problemOfName(where: string, [first = '', field, ...more]: string[], fields: Knot['fields']) {
  const whole = [first, ...(field === undefined ? [] : [field]), ...more].join('.');
  if (first !== 'fields') {
    const isThere = Object.hasOwn(templateNames, first) && field === undefined;
    return isThere ? undefined : `${where} names “${whole}”, which is not there.`;
  }
  const known = fields.find(({ id }) => id === field);
  if (!known || more.length > 0) return `${where} names “${whole}”, which is no field of the knot.`;
  return known.sensitive ? `${where} names “${known.name}”, which is sensitive: it stays out of mails.` : undefined;
}

/** What a shared value is in a text. */
export function textOf(value: Shared | undefined): string {
  if (value === null || value === undefined) return '';
  if (typeof value === 'boolean') return value ? 'yes' : 'no';
  return typeof value === 'string' ? value : value.join(', ');
}

/** @throws LiquidError where a template takes too long */
export async function renderFollowUp(
  { name, subject, text }: FollowUp,
  values: TemplateValues,
  whyUrl: string,
): Promise<RenderedFollowUp> {
  const rendered = String(await plain.parseAndRender(text, values)).slice(0, longestText);
  const heading = oneLine(String(await plain.parseAndRender(subject, values))).slice(0, longestSubject);
  const why = `You get this because of “${name}”.`;
  return {
    subject: heading === '' ? name : heading,
    text: `${rendered.trim()}\n\n--\n${why}\nTo change that: ${whyUrl}\n`,
    html: String(
      await framed.render(frame, {
        heading,
        lines: rendered.trim().split(/\r?\n/),
        title: values.title,
        here: values.here,
        page: values.page,
        system: values.system,
        why,
        whyUrl,
      }),
    ),
  };
}
