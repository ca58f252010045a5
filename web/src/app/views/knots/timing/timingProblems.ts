import type { AbstractControl } from '@angular/forms';
import { askingSeconds } from '@anchor-knot/contracts';
import { type Instant, problemsOfTiming, type TimingProblem } from '@anchor-knot/core';
import type { DaysForm, TimingForm } from './timingForm';
import { timingOf } from './timingForm';

/** Everything that keeps what is set from being kept. @param now as in {@link problemsOfTiming} */
export function problemsOfForm(form: TimingForm, now: Instant): readonly TimingProblem[] {
  const timing = timingOf(form);
  const seconds = Object.entries(form.getRawValue().triggers).flatMap(([member, trigger]): TimingProblem[] => {
    const value = Number(trigger.seconds);
    const isFine = Number.isInteger(value) && value >= askingSeconds.least && value <= askingSeconds.most;
    const says = `give whole seconds from ${askingSeconds.least} to ${askingSeconds.most.toLocaleString('en-GB')}`;
    return trigger.kind === 'none' || isFine ? [] : [{ where: `triggers.${member}`, says }];
  });
  return [...problemsOfTiming(timing, now), ...seconds];
}

/** Says what is wrong where it is wrong; each control may have one problem. */
export function showProblems(form: TimingForm, problems: readonly TimingProblem[]): void {
  const saying = new Map<AbstractControl, string>();
  for (const { where, says } of problems) {
    const control = controlAt(form, where);
    if (control && !saying.has(control)) saying.set(control, says);
  }
  for (const control of everyControl(form)) {
    const says = saying.get(control);
    if (control.errors?.['timing'] === says) continue;
    control.setErrors(says === undefined ? null : { timing: says }, { emitEvent: false });
  }
}

function controlAt(form: TimingForm, where: string): AbstractControl | undefined {
  const { controls } = form;
  const [schedule, part = ''] = where.split('.');
  if (schedule === 'triggers') return controls.triggers.controls[part]?.controls.seconds;
  if (schedule === 'quiet') return part === 'days' ? controls.quietDays : controls.quietFrom;
  if (schedule === 'complete') return controlOfDays(controls.completeDays, part);
  if (schedule === 'regular') {
    const byPart: Readonly<Record<string, AbstractControl>> = {
      every: controls.every,
      between: controls.from,
      expression: controls.expression,
    };
    return controls.regular.value === 'days' ? controlOfDays(controls.days, part) : (byPart[part] ?? ofSchedule(form));
  }
  const bySetting: Readonly<Record<string, AbstractControl>> = {
    zone: controls.zone,
    firstDay: controls.firstDay,
    lastDay: controls.lastDay,
    lateAfterMinutes: controls.lateAfter,
    callShare: controls.callShare,
  };
  return bySetting[schedule ?? ''];
}

/** Where it is said of a schedule as a whole that it never comes. */
function ofSchedule({ controls }: TimingForm): AbstractControl {
  return controls.regular.value === 'cron' ? controls.expression : controls.every;
}

function controlOfDays({ controls }: DaysForm, part: string): AbstractControl {
  if (part !== 'on') return controls.at;
  return { every: controls.every, 'of the week': controls.week, 'of the month': controls.month }[controls.kind.value];
}

function everyControl({ controls }: TimingForm): AbstractControl[] {
  return [
    ...Object.values(controls.days.controls),
    ...Object.values(controls.completeDays.controls),
    ...Object.values(controls.triggers.controls).map(({ controls: { seconds } }) => seconds),
    ...[
      controls.zone,
      controls.firstDay,
      controls.lastDay,
      controls.every,
      controls.from,
      controls.expression,
      controls.lateAfter,
      controls.quietFrom,
      controls.quietDays,
      controls.callShare,
    ],
  ];
}
