import type { KnotDefinition, LookUpAnswer, LookUpRequest, Reading } from '@anchor-knot/contracts';
import type { Check, FieldType, Finding, FormulaProblem, Outcome, Passing, Trial } from '@anchor-knot/core';

export type Records = Reading['together'][number]['records'];

/** What is known of the members' objects: their fields, and some of their records. */
export type TrialSources = Readonly<
  Record<string, { readonly fields: readonly unknown[]; readonly key: string; readonly records: readonly unknown[] }>
>;

/** What has to be looked up in another knot before references can be read. */
export interface AskedOfKnot extends LookUpRequest {
  readonly knot: string;
}

/** What is known of the things of other knots. */
export type KnownOfKnots = Pick<LookUpAnswer, 'names' | 'substitutes'>;

/** The names that a formula may use, with their types where they are known. */
export type FormulaTypes = Readonly<Record<string, FieldType | undefined>>;

/** `problem` makes it no formula; `warning` will fail where there are values. */
export interface FormulaVerdict {
  readonly problem?: FormulaProblem;
  readonly warning?: Omit<FormulaProblem, 'ok'>;
}

export interface FunctionHelp {
  readonly signature: string;
  /** What it takes and gives, in words. */
  readonly types: string;
  readonly says: string;
  readonly example: string;
  readonly gives: string;
}

export type TrialQuestion =
  | { readonly kind: 'sources'; readonly sources: TrialSources }
  | {
      readonly kind: 'try';
      readonly id: number;
      readonly definition: KnotDefinition;
      readonly records: Records;
      /** What is known of the knots that it refers to; where it is left out, the answer says what is asked of them. */
      readonly known?: KnownOfKnots | undefined;
    }
  | { readonly kind: 'review'; readonly id: number; readonly definition: KnotDefinition }
  | { readonly kind: 'filter'; readonly id: number; readonly member: string; readonly formula: string }
  | {
      readonly kind: 'check';
      readonly id: number;
      readonly definition: KnotDefinition;
      readonly check: Check;
      readonly members: readonly string[];
    }
  | {
      readonly kind: 'formula';
      readonly id: number;
      readonly source: string;
      readonly types: FormulaTypes;
      readonly wanted: FieldType | undefined;
    }
  | { readonly kind: 'inverse'; readonly id: number; readonly source: string }
  | { readonly kind: 'functions'; readonly id: number };

export type TrialAnswer =
  | { readonly kind: 'tried'; readonly id: number; readonly trial: Trial; readonly asked: readonly AskedOfKnot[] }
  | { readonly kind: 'reviewed'; readonly id: number; readonly findings: readonly Finding[] }
  | { readonly kind: 'filtered'; readonly id: number; readonly outcome: Outcome<Passing> }
  | { readonly kind: 'checked'; readonly id: number; readonly outcomes: Readonly<Record<string, Outcome<Passing>>> }
  | { readonly kind: 'formula'; readonly id: number; readonly verdict: FormulaVerdict }
  | { readonly kind: 'inverse'; readonly id: number; readonly outcome: Outcome<string> }
  | { readonly kind: 'functions'; readonly id: number; readonly functions: readonly FunctionHelp[] };
