import type { Evidence, EvidenceField, KeyRule } from '../definition/index.js';
import { defaultThresholds } from '../identity/index.js';
import type { Edit } from './edit.js';

export function setKeyRules(keyRules: readonly KeyRule[]): Edit {
  return (definition) => ({ ...definition, keyRules: [...keyRules] });
}

/** What was learned belongs to what was compared: other evidence has to be learned anew. */
export function withParts(evidence: Evidence | undefined, fields: readonly EvidenceField[]): Evidence {
  return { thresholds: evidence?.thresholds ?? defaultThresholds, fields: [...fields] };
}

/** Sets what is weighed where no key ties a record; nothing, when there is no part. */
export function setEvidence(fields: readonly EvidenceField[]): Edit {
  return ({ evidence, ...definition }) =>
    fields.length === 0 ? definition : { ...definition, evidence: withParts(evidence, fields) };
}

/** A part's name changes nothing that was learned. */
export function nameEvidence(index: number, name: string): Edit {
  return (definition) =>
    definition.evidence
      ? {
          ...definition,
          evidence: {
            ...definition.evidence,
            fields: definition.evidence.fields.map((part, at) => (at === index ? { ...part, name } : part)),
          },
        }
      : definition;
}

export function setThresholds(thresholds: Evidence['thresholds']): Edit {
  return (definition) =>
    definition.evidence ? { ...definition, evidence: { ...definition.evidence, thresholds } } : definition;
}

/** Takes weights over that were learned from the data. */
export function setWeights(weights: NonNullable<Evidence['weights']>): Edit {
  return (definition) =>
    definition.evidence ? { ...definition, evidence: { ...definition.evidence, weights } } : definition;
}
