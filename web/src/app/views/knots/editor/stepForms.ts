import type { Step } from '@anchor-knot/core';

/** How one part of a step is entered. */
export interface StepPart {
  readonly key: string;
  readonly label: string;
  readonly as: 'text' | 'number' | 'choice' | 'words' | 'check' | 'formula' | 'table';
  readonly choices?: readonly { readonly value: string; readonly says: string }[];
  readonly hint?: string;
  /** May be left out. */
  readonly optional?: boolean;
  /** An empty text is a value of its own. */
  readonly mayBeEmpty?: boolean;
}

export interface StepForm {
  readonly kind: Step['kind'];
  readonly name: string;
  readonly says: string;
  readonly parts: readonly StepPart[];
  /** @param address where records of the members are shown, with `{key}` in it */
  make(tables: readonly string[], address?: string): Step;
}

const mostInStep = 100_000;

const choices = (...pairs: readonly (readonly [string, string])[]) => pairs.map(([value, says]) => ({ value, says }));

const roundingPart: StepPart = {
  key: 'rounding',
  label: 'Rounded',
  as: 'choice',
  optional: true,
  choices: choices(['half up', 'half up'], ['half even', 'half to even'], ['up', 'up'], ['down', 'down']),
};

/** The kinds of step, in the order in which they are offered. */
export const stepForms: readonly StepForm[] = [
  { kind: 'trim', name: 'Trim', says: 'blanks at the ends do not count', parts: [], make: () => ({ kind: 'trim' }) },
  {
    kind: 'case',
    name: 'Case',
    says: 'capitals or small letters',
    parts: [
      { key: 'form', label: 'Letters', as: 'choice', choices: choices(['lower', 'small'], ['upper', 'capital']) },
      {
        key: 'side',
        label: 'Where',
        as: 'choice',
        choices: choices(['shared', 'in the shared value'], ['member', 'only in this system']),
      },
    ],
    make: () => ({ kind: 'case', side: 'shared', form: 'lower' }),
  },
  {
    kind: 'cut',
    name: 'Cut',
    says: 'there is only so much room; what is cut off is kept here',
    parts: [
      { key: 'length', label: 'Characters', as: 'number' },
      { key: 'ellipsis', label: 'End it with …', as: 'check', optional: true },
    ],
    make: () => ({ kind: 'cut', length: 40 }),
  },
  {
    kind: 'phone',
    name: 'Phone',
    says: 'shared as E.164',
    parts: [
      { key: 'country', label: 'Country of numbers without one', as: 'text', hint: 'two letters, as GB' },
      {
        key: 'form',
        label: 'Written there',
        as: 'choice',
        choices: choices(['national', 'national'], ['international', 'international'], ['e164', 'E.164']),
      },
    ],
    make: () => ({ kind: 'phone', country: 'GB', form: 'international' }),
  },
  {
    kind: 'country',
    name: 'Country',
    says: 'shared as the code of ISO 3166',
    parts: [
      {
        key: 'form',
        label: 'Written there',
        as: 'choice',
        choices: choices(['name', 'English name'], ['alpha2', 'two letters'], ['alpha3', 'three letters']),
      },
    ],
    make: () => ({ kind: 'country', form: 'name' }),
  },
  {
    kind: 'crosswalk',
    name: 'Crosswalk',
    says: 'by a table of values',
    parts: [{ key: 'table', label: 'Table', as: 'table' }],
    make: (tables) => ({ kind: 'crosswalk', table: tables[0] ?? 'table' }),
  },
  {
    kind: 'yesNo',
    name: 'Yes or no',
    says: 'words or numbers that mean yes and no; the first of each is written',
    parts: [
      { key: 'yes', label: 'Yes is', as: 'words', hint: 'separated by commas' },
      { key: 'no', label: 'No is', as: 'words', hint: 'separated by commas' },
    ],
    make: () => ({ kind: 'yesNo', yes: ['yes'], no: ['no'] }),
  },
  {
    kind: 'number',
    name: 'Number',
    says: 'other marks, units or places',
    parts: [
      { key: 'factor', label: 'There it is so many times as much', as: 'text', optional: true, hint: '100 for pence' },
      { key: 'places', label: 'Decimal places there', as: 'number', optional: true },
      {
        key: 'decimal',
        label: 'Decimal mark',
        as: 'choice',
        optional: true,
        choices: choices(['.', 'point'], [',', 'comma']),
      },
      {
        key: 'as',
        label: 'Written as',
        as: 'choice',
        optional: true,
        choices: choices(['number', 'a number'], ['text', 'a text']),
      },
      roundingPart,
    ],
    make: () => ({ kind: 'number', places: 2 }),
  },
  {
    kind: 'date',
    name: 'Date and time',
    says: 'written in another format or zone',
    parts: [
      { key: 'format', label: 'Format', as: 'text', hint: 'dd/MM/yyyy, yyyy-MM-dd HH:mm' },
      { key: 'to', label: 'Shared as', as: 'choice', choices: choices(['date', 'a day'], ['instant', 'a moment']) },
      { key: 'zone', label: 'Zone there', as: 'text', optional: true, hint: 'Europe/London' },
    ],
    make: () => ({ kind: 'date', format: 'dd/MM/yyyy', to: 'date' }),
  },
  {
    kind: 'money',
    name: 'Money',
    says: 'an amount written with its currency',
    parts: [
      { key: 'currency', label: 'Currency', as: 'text', hint: 'three letters, as GBP' },
      { key: 'locale', label: 'Written as in', as: 'text', hint: 'en-GB, de-DE' },
      {
        key: 'show',
        label: 'With',
        as: 'choice',
        choices: choices(['symbol', 'its symbol'], ['code', 'its code'], ['number', 'the number alone']),
      },
      roundingPart,
    ],
    make: () => ({ kind: 'money', currency: 'GBP', locale: 'en-GB', show: 'symbol' }),
  },
  {
    kind: 'email',
    name: 'Email',
    says: 'in small letters, without a name around it',
    parts: [],
    make: () => ({ kind: 'email' }),
  },
  {
    kind: 'personName',
    name: 'Person name',
    says: 'one part of a whole name there',
    parts: [
      {
        key: 'part',
        label: 'Part',
        as: 'choice',
        choices: choices(
          ['given', 'given name'],
          ['family', 'family name'],
          ['middle', 'middle name'],
          ['salutation', 'salutation'],
          ['suffix', 'suffix'],
        ),
      },
    ],
    make: () => ({ kind: 'personName', part: 'given' }),
  },
  {
    kind: 'address',
    name: 'Address',
    says: 'one part of an address there that is one text',
    parts: [
      {
        key: 'part',
        label: 'Part',
        as: 'choice',
        choices: choices(['street', 'street'], ['town', 'town'], ['postcode', 'postcode'], ['country', 'country']),
      },
      { key: 'country', label: 'Country whose postcodes these are', as: 'text', hint: 'two letters, as GB' },
    ],
    make: () => ({ kind: 'address', part: 'town', country: 'GB' }),
  },
  {
    kind: 'part',
    name: 'Part of a text',
    says: 'a text there that is laid out in one way; also fixed text around a value',
    parts: [
      { key: 'layout', label: 'Layout there', as: 'text', hint: '{street}, {town}' },
      { key: 'part', label: 'The part that is shared', as: 'text', hint: 'town' },
    ],
    make: () => ({ kind: 'part', layout: '{first}, {second}', part: 'first' }),
  },
  {
    kind: 'replace',
    name: 'Replace',
    says: 'one text there is another one here',
    parts: [
      { key: 'find', label: 'There', as: 'text' },
      { key: 'by', label: 'Here', as: 'text', mayBeEmpty: true },
    ],
    make: () => ({ kind: 'replace', find: '/', by: '-' }),
  },
  {
    kind: 'pad',
    name: 'Fill up',
    says: 'there it has a fixed length, as 000417',
    parts: [
      { key: 'length', label: 'Characters', as: 'number' },
      { key: 'with', label: 'Filled up with', as: 'text' },
      { key: 'side', label: 'At its', as: 'choice', choices: choices(['start', 'start'], ['end', 'end']) },
    ],
    make: () => ({ kind: 'pad', length: 6, with: '0', side: 'start' }),
  },
  {
    kind: 'list',
    name: 'List',
    says: 'several values in one text',
    parts: [{ key: 'separator', label: 'Separator', as: 'text' }],
    make: () => ({ kind: 'list', separator: ';' }),
  },
  {
    kind: 'path',
    name: 'Path',
    says: 'a value within a list or an object there',
    parts: [{ key: 'path', label: 'Path', as: 'text', hint: 'contacts.0.email; places count from 0' }],
    make: () => ({ kind: 'path', path: '0' }),
  },
  {
    kind: 'link',
    name: 'Web link',
    says: 'there it is a link with the key in it',
    parts: [{ key: 'address', label: 'Address', as: 'text', hint: 'https://crm.example/records/{key}' }],
    make: (_, address) => ({ kind: 'link', address: address ?? 'https://crm.example/records/{key}' }),
  },
  {
    kind: 'hash',
    name: 'Hash',
    says: 'SHA-256, for comparing without telling; runs one way',
    parts: [{ key: 'salt', label: 'Salt before the value', as: 'text', optional: true }],
    make: () => ({ kind: 'hash' }),
  },
  {
    kind: 'default',
    name: 'Default',
    says: 'a value where there is none',
    parts: [{ key: 'value', label: 'When blank', as: 'text' }],
    make: () => ({ kind: 'default', value: 'unknown' }),
  },
  {
    kind: 'constant',
    name: 'Constant',
    says: 'always the same; runs one way',
    parts: [{ key: 'value', label: 'Always', as: 'text' }],
    make: () => ({ kind: 'constant', value: 'x' }),
  },
  {
    kind: 'formula',
    name: 'Formula',
    says: 'over value; one for each way that runs',
    parts: [
      { key: 'inbound', label: 'From there', as: 'formula', optional: true, hint: 'upper(value)' },
      { key: 'outbound', label: 'To there', as: 'formula', optional: true, hint: 'lower(value)' },
    ],
    make: () => ({ kind: 'formula', inbound: 'value', outbound: 'value' }),
  },
  {
    kind: 'reference',
    name: 'Reference',
    says: 'a thing of another knot, in the way in which this system refers to it',
    parts: [],
    make: () => ({ kind: 'reference', by: { member: 'member' } }),
  },
];

export const stepForm = (kind: Step['kind']): StepForm => stepForms.find((form) => form.kind === kind) as StepForm;

/** The text of a part as it is entered. */
export function partText(step: Step, part: StepPart): string {
  const value = (step as unknown as Record<string, unknown>)[part.key];
  if (value === undefined) return '';
  return Array.isArray(value) ? value.map(String).join(', ') : String(value);
}

/**
 * The step with one part changed, from what was entered; what is left out becomes absent.
 * @returns the reason when it cannot be taken
 */
export function withPart(step: Step, part: StepPart, entered: string | boolean): Step | { readonly refused: string } {
  const rest = Object.fromEntries(Object.entries(step).filter(([key]) => key !== part.key));
  const changed = (value: unknown): Step => ({ ...rest, [part.key]: value }) as unknown as Step;
  if (typeof entered === 'boolean') return entered ? changed(true) : (rest as unknown as Step);
  const text = part.as === 'text' ? entered : entered.trim();
  if (text === '' && part.mayBeEmpty) return changed('');
  if (text === '') return part.optional ? (rest as unknown as Step) : { refused: 'It may not be empty.' };
  switch (part.as) {
    case 'number': {
      return /^\d{1,6}$/.test(text) && Number(text) <= mostInStep
        ? changed(Number(text))
        : { refused: 'Use a whole number of at most 100,000.' };
    }
    case 'words': {
      const words = text
        .split(',')
        .map((word) => word.trim())
        .filter((word) => word !== '');
      return changed(
        words.map((word) =>
          /^-?\d+$/.test(word) && word.length < 15
            ? Number(word)
            : word === 'true'
              ? true
              : word === 'false'
                ? false
                : word,
        ),
      );
    }
    default:
      if (part.key === 'factor' && !(/^\d+(\.\d+)?$/.test(text) && Number(text) > 0))
        return { refused: 'Use a number greater than zero.' };
      if (part.key === 'with' && text.length !== 1) return { refused: 'Use one character.' };
      if (part.key === 'currency' && !/^[A-Za-z]{3}$/.test(text)) return { refused: 'Use three letters.' };
      if (part.key === 'country' && !/^[A-Za-z]{2}$/.test(text)) return { refused: 'Use two letters.' };
      return text.length > 4000 ? { refused: 'At most 4,000 characters.' } : changed(text);
  }
}
