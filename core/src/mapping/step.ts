import type { AnchorId, Outcome, Raw, ReferenceBy } from '../record/index.js';

/** The steps of a translation, as data. They are listed in the order from the member to the shared field. */
export type Step =
  | { readonly kind: 'trim' }
  | { readonly kind: 'case'; readonly side: 'shared' | 'member'; readonly form: 'upper' | 'lower' }
  | { readonly kind: 'cut'; readonly length: number; readonly ellipsis?: boolean | undefined }
  | { readonly kind: 'phone'; readonly country: string; readonly form: 'national' | 'international' | 'e164' }
  | { readonly kind: 'country'; readonly form: 'name' | 'alpha2' | 'alpha3' }
  | { readonly kind: 'crosswalk'; readonly table: string }
  | { readonly kind: 'yesNo'; readonly yes: readonly Scalar[]; readonly no: readonly Scalar[] }
  | {
      readonly kind: 'number';
      readonly decimal?: '.' | ',' | undefined;
      readonly group?: string | undefined;
      readonly places?: number | undefined;
      readonly factor?: string | undefined;
      readonly as?: 'number' | 'text' | undefined;
      readonly rounding?: Rounding | undefined;
    }
  | {
      readonly kind: 'date';
      readonly format: string;
      readonly zone?: string | undefined;
      readonly to: 'date' | 'instant';
    }
  | { readonly kind: 'list'; readonly separator: string }
  | { readonly kind: 'pad'; readonly length: number; readonly with: string; readonly side: 'start' | 'end' }
  | { readonly kind: 'replace'; readonly find: string; readonly by: string }
  | { readonly kind: 'part'; readonly layout: string; readonly part: string }
  | { readonly kind: 'personName'; readonly part: PersonNamePart }
  | { readonly kind: 'address'; readonly part: AddressPart; readonly country: string }
  | { readonly kind: 'email' }
  | {
      readonly kind: 'money';
      readonly currency: string;
      readonly locale: string;
      readonly show: 'symbol' | 'code' | 'number';
      readonly rounding?: Rounding | undefined;
    }
  | { readonly kind: 'path'; readonly path: string }
  | { readonly kind: 'link'; readonly address: string }
  | { readonly kind: 'hash'; readonly salt?: string | undefined }
  | { readonly kind: 'default'; readonly value: Scalar }
  | { readonly kind: 'constant'; readonly value: Scalar }
  | ReferenceStep
  | { readonly kind: 'formula'; readonly inbound?: string | undefined; readonly outbound?: string | undefined };

/** How a system refers to a thing of the knot that the shared field names. It is the last step of a mapping. */
export interface ReferenceStep {
  readonly kind: 'reference';
  readonly by: ReferenceBy;
  /** What a value means that nothing is known by. Where it is left out, the field waits until something is. */
  readonly notFound?: 'blank' | { readonly instead: AnchorId } | undefined;
}

export type PersonNamePart = 'salutation' | 'given' | 'middle' | 'family' | 'suffix';
export type AddressPart = 'street' | 'town' | 'postcode' | 'country';
/** How a value is brought to fewer decimal places; half up when not said. */
export type Rounding = 'half up' | 'half even' | 'up' | 'down';
export type Scalar = string | number | boolean;
export type StepKind = Step['kind'];

/**
 * One step as a pair of functions. `inbound` goes from the member towards the shared field and is given
 * what the shared side of this step holds now (`held`), so that a narrower form loses nothing.
 * Both get values that are not blank, unless `takesBlank` is set. A missing function: that way cannot run.
 */
export interface StepLens {
  readonly inbound?: (value: Raw, held: Raw | undefined) => Outcome<Raw>;
  /** `present` is what the member side of this step holds now; given only where `usesPresent` is set. */
  readonly outbound?: (value: Raw, present?: Raw) => Outcome<Raw>;
  readonly takesBlank?: boolean;
  /** True when `inbound` looks at `held`. */
  readonly usesHeld?: boolean;
  /** True when `outbound` changes a part of what is there, and keeps the rest. */
  readonly usesPresent?: boolean;
  /** True when what is written cannot be read back: such a mapping runs one way. */
  readonly oneWay?: boolean;
  /** True when the member side of this step decides between number and text by itself. */
  readonly setsRawForm?: boolean;
}

/** The kinds of step that only run one way: what goes in cannot be told from what comes out. */
export const oneWayKinds: ReadonlySet<StepKind> = new Set<StepKind>(['constant', 'hash']);

/** The text of what stands in a member now, for steps that change a part of it; empty where nothing does. */
export function textThere(present: Raw | undefined): string {
  return present === undefined || present === null ? '' : (textOf(present)?.trim() ?? '');
}

/** The text of a scalar raw value; `undefined` for lists and objects. */
export function textOf(value: Raw): string | undefined {
  if (typeof value === 'string') return value;
  if (typeof value === 'number' || typeof value === 'boolean') return String(value);
  if (value !== null && typeof value === 'object' && '$number' in value && typeof value.$number === 'string')
    return value.$number;
  return undefined;
}
