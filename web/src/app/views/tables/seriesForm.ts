import { FormControl, FormGroup } from '@angular/forms';
import { seriesSchema } from '@anchor-knot/contracts';
import type { Series } from '@anchor-knot/core';

/** A series with the number that is to come next. */
export interface SetSeries {
  readonly series: Series;
  readonly next: number;
}

/** What a new one begins with. */
export const newSeries: SetSeries = {
  series: { name: '', prefix: '', digits: 5, yearly: false, zone: 'Europe/London' },
  next: 1,
};

export type SeriesForm = ReturnType<typeof seriesForm>;
export function seriesForm({ series, next }: SetSeries) {
  return new FormGroup({
    name: new FormControl(series.name, { nonNullable: true }),
    prefix: new FormControl(series.prefix, { nonNullable: true }),
    digits: new FormControl<number | null>(series.digits),
    next: new FormControl<number | null>(next),
    yearly: new FormControl(series.yearly, { nonNullable: true }),
    zone: new FormControl(series.zone, { nonNullable: true }),
  });
}

const words: Readonly<Record<string, string>> = {
  name: 'It needs a name of at most 100 characters.',
  prefix: 'At most 20 characters that can be seen.',
  digits: 'From 1 to 12.',
  next: 'A whole number from 1 on.',
  zone: 'There is no such time zone.',
};

/** Says beside each field what is wrong with it. @returns the series; `undefined` as long as something is wrong */
export function seriesOf(form: SeriesForm): SetSeries | undefined {
  const { next, digits, ...texts } = form.getRawValue();
  const parsed = seriesSchema.safeParse({ ...texts, digits: Number(digits), zone: texts.zone.trim() });
  const wrong = new Set(parsed.error?.issues.map(({ path }) => String(path[0])));
  const first = Number(next);
  if (!Number.isSafeInteger(first) || first < 1) wrong.add('next');
  for (const [name, control] of Object.entries(form.controls))
    control.setErrors(wrong.has(name) ? { wrong: words[name] } : null);
  return parsed.success && wrong.size === 0 ? { series: parsed.data, next: first } : undefined;
}
