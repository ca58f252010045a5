import type { KnotDefinition, Reading } from '@anchor-knot/contracts';
import type { Finding, FormulaProblem, Outcome, Passing, Trial } from '@anchor-knot/core';

export type Records = Reading['together'][number]['records'];

/** What is known of the members' objects: their fields, and some of their records. */
export type TrialSources = Readonly<Record<string, { readonly fields: readonly unknown[]; readonly key: string; readonly records: readonly unknown[] }>>;

export interface FunctionHelp {
  readonly signature: string;
  readonly says: string;
  readonly example: string;
  readonly gives: string;
}

export type TrialQuestion =
  | { readonly kind: 'sources'; readonly sources: TrialSources }
  | { readonly kind: 'try'; readonly id: number; readonly definition: KnotDefinition; readonly records: Records }
  | { readonly kind: 'review'; readonly id: number; readonly definition: KnotDefinition }
  | { readonly kind: 'filter'; readonly id: number; readonly member: string; readonly formula: string }
  | { readonly kind: 'check'; readonly id: number; readonly definition: KnotDefinition; readonly formula: string; readonly members: readonly string[] }
  | { readonly kind: 'formula'; readonly id: number; readonly source: string; readonly names: readonly string[] }
  | { readonly kind: 'functions'; readonly id: number };

export type TrialAnswer =
  | { readonly kind: 'tried'; readonly id: number; readonly trial: Trial }
  | { readonly kind: 'reviewed'; readonly id: number; readonly findings: readonly Finding[] }
  | { readonly kind: 'filtered'; readonly id: number; readonly outcome: Outcome<Passing> }
  | { readonly kind: 'checked'; readonly id: number; readonly outcomes: Readonly<Record<string, Outcome<Passing>>> }
  | { readonly kind: 'formula'; readonly id: number; readonly problem: FormulaProblem | undefined }
  | { readonly kind: 'functions'; readonly id: number; readonly functions: readonly FunctionHelp[] };
