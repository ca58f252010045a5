import { DateTime } from 'luxon';
import { decimalOf, type FieldPath, type FieldType, type Raw, readPath } from '../record/index.js';
import { countryCode, type Crosswalk, type CrosswalkRow, type Scalar, type Step } from '../mapping/index.js';
import { mainKind } from './pairEvidence.js';
import type { FieldSketch, ObjectSketch } from './sketch.js';

/** One member's field of a proposed shared field, with all that is known of it. */
export interface ProposedSource {
  readonly member: string;
  readonly sketch: FieldSketch;
  readonly object: ObjectSketch;
  /** So many times the first member's value; where units differ. */
  readonly factor?: number | undefined;
  /** In records tied to the first member's: which of its values come with which of the first one's. */
  readonly together?: ReadonlyMap<string, ReadonlyMap<string, number>> | undefined;
  /** In characters, where the system says so. */
  readonly longest?: number | undefined;
}

const mostChoices = 30;
const looked = 60;
const timeFormats = ['yyyy-MM-dd HH:mm:ss', 'yyyy-MM-dd HH:mm'] as const;
const dateFormats = ['dd/MM/yyyy', 'MM/dd/yyyy', 'dd.MM.yyyy', 'dd-MM-yyyy', 'd/M/yyyy'] as const;
const isoInstant = "yyyy-MM-dd'T'HH:mm:ss.SSS'Z'";

/** The type of a shared field that these fields are mapped to. */
export function proposedType(sources: readonly ProposedSource[]): FieldType {
  const kinds = sources.map(({ sketch }) => mainKind(sketch)).filter((kind) => kind !== 'none');
  const all = (kind: string): boolean => kinds.length > 0 && kinds.every((one) => one === kind);
  if (kinds.includes('email')) return 'email';
  if (all('phone')) return 'phone';
  if (all('yes/no')) return 'yes/no';
  if (kinds.includes('date'))
    return sources.some((source) => samples(source).some((raw) => typeof raw === 'string' && !hasTime(raw)))
      ? 'date'
      : 'instant';
  if (kinds.includes('list')) return 'list';
  if (all('number') && sources.every(({ together }) => !together)) return 'number';
  if (sources.some(({ together }) => together) || sources.some(holdsCountries) || all('choice')) return 'choice';
  if (kinds.includes('long text')) return 'note';
  return 'text';
}

/** The steps from one member's field to the shared field, as its values suggest. A person corrects them. */
export function proposedSteps(type: FieldType, source: ProposedSource, table: string | undefined): Step[] {
  const raws = samples(source);
  const texts = raws.filter((raw): raw is string => typeof raw === 'string');
  switch (type) {
    case 'email':
      return [{ kind: 'trim' }, { kind: 'case', side: 'shared', form: 'lower' }];
    case 'phone':
      return [
        {
          kind: 'phone',
          country: 'GB',
          form: mostly(texts, (text) => /^\+\d+$/.test(text))
            ? 'e164'
            : mostly(texts, (text) => text.startsWith('+'))
              ? 'international'
              : 'national',
        },
      ];
    case 'yes/no': {
      const words = [
        ...new Set(raws.filter((raw): raw is Scalar => typeof raw === 'string' || typeof raw === 'number')),
      ];
      if (words.length === 0) return [];
      const isYes = (word: Scalar): boolean => /^(y|yes|ja|j|oui|si|sí|true|on|x|1)$/i.test(String(word).trim());
      const [yes, no] = [words.filter(isYes), words.filter((word) => !isYes(word))];
      return yes.length > 0 && no.length > 0 ? [{ kind: 'yesNo', yes, no }] : [];
    }
    case 'date':
    case 'instant': {
      const format = dateFormat(texts, type);
      return format ? [{ kind: 'date', format, to: type }] : [];
    }
    case 'number': {
      const comma = mostly(texts, (text) => /^[+-]?[\d.\s]*\d,\d+$/.test(text.trim()));
      const factor =
        source.factor === undefined || source.factor === 1 ? undefined : decimalOf(String(source.factor))?.toString();
      if (!comma && factor === undefined) return [];
      return [
        {
          kind: 'number',
          ...(comma ? { decimal: ',' as const, as: 'text' as const, places: 2 } : {}),
          ...(factor === undefined ? {} : { factor }),
        },
      ];
    }
    case 'choice':
      if (table !== undefined) return [{ kind: 'crosswalk', table }];
      if (!holdsCountries(source)) return [{ kind: 'trim' }];
      return [
        {
          kind: 'country',
          form: mostly(texts, ({ length }) => length === 2)
            ? 'alpha2'
            : mostly(texts, ({ length }) => length === 3)
              ? 'alpha3'
              : 'name',
        },
      ];
    case 'text':
      return [
        { kind: 'trim' },
        ...(source.longest === undefined || source.longest >= 200
          ? []
          : [{ kind: 'cut' as const, length: source.longest }]),
      ];
    case 'reference':
      return [];
    case 'note':
      return source.longest === undefined || source.longest >= 4000 ? [] : [{ kind: 'cut', length: source.longest }];
    case 'list':
      return texts.length > 0
        ? [{ kind: 'list', separator: mostly(texts, (text) => text.includes(';')) ? ';' : ',' }]
        : [];
    default:
      return type satisfies never;
  }
}

/** The crosswalk of a choice whose members use other words: the first member's values are the shared ones. */
export function proposedCrosswalk(name: string, sources: readonly ProposedSource[]): Crosswalk | undefined {
  const [first, ...others] = sources;
  if (!first || !others.some(({ together }) => together)) return undefined;
  const rows = new Map<string, Record<string, Scalar[]>>();
  for (const raw of valuesOf(first)) rows.set(String(raw), { [first.member]: [raw] });
  for (const { member, together } of others) {
    if (!together) {
      for (const [shared, values] of rows) values[member] = [shared];
      continue;
    }
    for (const [value, partners] of together) {
      const shared = [...partners].toSorted(([, a], [, b]) => b - a)[0]?.[0];
      const row = shared === undefined ? undefined : rows.get(shared);
      if (row) row[member] = [...(row[member] ?? []), value];
    }
    // Where this member has one word for several of the first one's, each of them is written as that word.
    for (const [shared, values] of rows) {
      if (values[member]) continue;
      const [most] = [...together]
        .flatMap(([value, partners]) => (partners.has(shared) ? [{ value, times: partners.get(shared) ?? 0 }] : []))
        .toSorted((a, b) => b.times - a.times);
      if (most) values[member] = [most.value];
    }
  }
  return { name, rows: [...rows].map(([shared, values]): CrosswalkRow => ({ shared, values })) };
}

function valuesOf({ object, sketch }: ProposedSource): Scalar[] {
  const values = new Map<string, Scalar>();
  for (const row of object.rows) {
    const raw = readPath(row, sketch.path);
    if ((typeof raw === 'string' && raw.trim() !== '') || typeof raw === 'number' || typeof raw === 'boolean')
      values.set(String(raw), raw);
  }
  return [...values.values()].slice(0, mostChoices);
}

function samples({
  object,
  sketch,
}: {
  readonly object: ObjectSketch;
  readonly sketch: { readonly path: FieldPath };
}): Raw[] {
  return object.rows
    .map((row) => readPath(row, sketch.path))
    .filter((raw): raw is Raw => raw !== undefined && raw !== null && raw !== '')
    .slice(0, looked);
}

function holdsCountries(source: ProposedSource): boolean {
  return (
    mainKind(source.sketch) !== 'number' &&
    mostly(
      samples(source).filter((raw) => typeof raw === 'string'),
      (text) => countryCode(text.trim()) !== undefined,
    )
  );
}

const hasTime = (text: string): boolean => /\d[T ]\d\d:\d\d/.test(text);

function mostly(texts: readonly string[], is: (text: string) => boolean): boolean {
  return texts.length > 0 && texts.filter(is).length >= texts.length * 0.7;
}

/**
 * The format of dates that are not written as the shared field has them; `undefined` where nothing is to be translated.
 */
function dateFormat(texts: readonly string[], type: 'date' | 'instant'): string | undefined {
  if (mostly(texts, (text) => /^\d{4}-\d\d-\d\d$/.test(text))) return undefined;
  if (mostly(texts, (text) => /^\d{4}-\d\d-\d\dT.*Z$/.test(text))) return type === 'instant' ? undefined : isoInstant;
  if (type === 'instant') {
    const format = timeFormats.find((format) => mostly(texts, (text) => DateTime.fromFormat(text, format).isValid));
    if (format) return format;
  }
  return dateFormats.find((format) => texts.length > 0 && texts.every((text) => fits(text, format)));
}

function fits(text: string, format: string): boolean {
  const [sign = '/'] = /[./-]/.exec(format) ?? [];
  const parts = text.split(sign);
  if (parts.length !== 3) return false;
  const month = Number(parts[format.startsWith('M') ? 0 : 1]);
  return month >= 1 && month <= 12 && (format.includes('dd') ? parts[0]?.length === 2 : true);
}
