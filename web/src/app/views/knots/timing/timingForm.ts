import { FormControl, FormGroup } from '@angular/forms';
import type { Days, OnDays, Schedule, Timing, Trigger } from '@anchor-knot/core';

/** A timing as it is set by hand: every choice that was once made is kept, also while another one is chosen. */
const text = (value: string) => new FormControl(value, { nonNullable: true });
const choice = <Value>(value: Value) => new FormControl<Value>(value, { nonNullable: true });
const number = (value: number | null) => new FormControl<number | null>(value);

export type DaysForm = ReturnType<typeof daysForm>;
export type TriggerForm = ReturnType<typeof triggerForm>;
export type TimingForm = ReturnType<typeof timingForm>;

function daysForm(days: OnDays | undefined) {
  const on = days?.on;
  return new FormGroup({
    kind: choice<Days['kind']>(on?.kind ?? 'every'),
    every: number(on?.kind === 'every' ? on.days : 1),
    week: choice<readonly number[]>(on?.kind === 'of the week' ? on.days : [1, 2, 3, 4, 5]),
    month: choice<readonly (number | 'last')[]>(on?.kind === 'of the month' ? on.days : [1]),
    /** Times of the day, with blanks or commas between them. */
    at: text((days?.at ?? ['02:00']).join(', ')),
  });
}

function triggerForm(trigger: Trigger | undefined) {
  return new FormGroup({
    kind: choice<Trigger['kind'] | 'none'>(trigger?.kind ?? 'none'),
    seconds: number(trigger?.kind === 'asking' ? trigger.seconds : (trigger?.otherwiseSeconds ?? 60)),
  });
}

const everyDay: readonly number[] = [1, 2, 3, 4, 5, 6, 7];

export function timingForm(timing: Timing, members: readonly string[]) {
  const { regular, complete } = timing;
  return new FormGroup({
    zone: text(timing.zone),
    firstDay: choice<Date | null>(dateOf(timing.firstDay)),
    lastDay: choice<Date | null>(dateOf(timing.lastDay)),
    regular: choice<Schedule['kind'] | 'none'>(regular?.kind ?? 'none'),
    every: number(regular?.kind === 'every' ? regular.every : 15),
    unit: choice<'minutes' | 'hours'>(regular?.kind === 'every' ? regular.unit : 'minutes'),
    from: text((regular?.kind === 'every' ? regular.between?.[0] : undefined) ?? ''),
    until: text((regular?.kind === 'every' ? regular.between?.[1] : undefined) ?? ''),
    days: daysForm(regular?.kind === 'days' ? regular : undefined),
    expression: text(regular?.kind === 'cron' ? regular.expression : ''),
    isComplete: choice(complete !== undefined),
    completeDays: daysForm(complete),
    lateAfter: number(timing.lateAfterMinutes ?? null),
    isQuiet: choice(timing.quiet !== undefined),
    quietFrom: text(timing.quiet?.between[0] ?? '22:00'),
    quietUntil: text(timing.quiet?.between[1] ?? '06:00'),
    quietDays: choice<readonly number[]>(timing.quiet?.days ?? everyDay),
    after: choice<readonly string[]>(timing.after ?? []),
    callShare: number(timing.callShare ?? null),
    rank: choice<'first' | 'among' | 'last'>(timing.rank ?? 'among'),
    triggers: new FormGroup<Record<string, TriggerForm>>(
      Object.fromEntries(members.map((member) => [member, triggerForm(timing.triggers[member])])),
    ),
  });
}

/** What a form says. A field that is empty, or no number, says 0. */
export function timingOf(form: TimingForm): Timing {
  const value = form.getRawValue();
  const firstDay = dayOf(value.firstDay);
  const lastDay = dayOf(value.lastDay);
  const regular = regularOf(value);
  return {
    zone: value.zone.trim(),
    ...(firstDay === undefined ? {} : { firstDay }),
    ...(lastDay === undefined ? {} : { lastDay }),
    ...(regular ? { regular } : {}),
    ...(value.isComplete ? { complete: onDaysOf(value.completeDays) } : {}),
    ...(value.lateAfter === null ? {} : { lateAfterMinutes: Number(value.lateAfter) }),
    ...quietOf(value),
    ...(value.after.length === 0 ? {} : { after: value.after }),
    ...(value.callShare === null ? {} : { callShare: Number(value.callShare) }),
    ...(value.rank === 'among' ? {} : { rank: value.rank }),
    triggers: Object.fromEntries(
      Object.entries(value.triggers).flatMap(([member, { kind, seconds }]): [string, Trigger][] => {
        if (kind === 'none') return [];
        const every = Number(seconds);
        return [[member, kind === 'events' ? { kind, otherwiseSeconds: every } : { kind, seconds: every }]];
      }),
    ),
  };
}

type TimingValue = ReturnType<TimingForm['getRawValue']>;

function quietOf({ isQuiet, quietFrom, quietUntil, quietDays }: TimingValue): Pick<Timing, 'quiet'> {
  if (!isQuiet) return {};
  const days = quietDays.length === everyDay.length ? {} : { days: quietDays.toSorted((one, other) => one - other) };
  return { quiet: { between: [quietFrom.trim(), quietUntil.trim()], ...days } };
}

function regularOf(value: TimingValue): Schedule | undefined {
  switch (value.regular) {
    case 'none':
      return undefined;
    case 'every': {
      const { every, unit } = value;
      const [from, until] = [value.from.trim(), value.until.trim()];
      const between = from === '' && until === '' ? {} : { between: [from, until] as const };
      return { kind: 'every', every: Number(every), unit, ...between };
    }
    case 'days':
      return onDaysOf(value.days);
    case 'cron':
      return { kind: 'cron', expression: value.expression.trim() };
    default:
      return value.regular satisfies never;
  }
}

function onDaysOf({ kind, every, week, month, at }: TimingValue['days']): OnDays {
  const on: Days =
    kind === 'every'
      ? { kind, days: Number(every) }
      : kind === 'of the week'
        ? { kind, days: week.toSorted((one, other) => one - other) }
        : { kind, days: month };
  return { kind: 'days', on, at: at.split(/[\s,;]+/).filter(Boolean) };
}

/** Local midnight of a day, as date pickers have it. */
function dateOf(day: string | undefined): Date | null {
  return day === undefined ? null : new Date(`${day}T00:00:00`);
}

/** What was kept in the session is a text. */
function dayOf(date: Date | string | null): string | undefined {
  if (date === null) return undefined;
  const local = new Date(date);
  const two = (part: number): string => String(part).padStart(2, '0');
  return `${local.getFullYear()}-${two(local.getMonth() + 1)}-${two(local.getDate())}`;
}
