import { hash } from 'node:crypto';
import { expectedFields, type FieldId, type Raw, type Tie } from '@anchor-knot/core';

/**
 * A short text that is equal for equal mapped fields (SHA-1, 120 bits of it). An unchanged record is recognised by it
 * without loading what its tie has seen.
 */
export function fingerprintOf(fields: Readonly<Record<FieldId, Raw>>): string {
  let text = '';
  for (const field of Object.keys(fields).sort()) text += `${field}\u001f${canonicalJson(fields[field] as Raw)}\u001e`;
  // One call for the whole record: each call into the library costs as much as hashing some hundred characters.
  return hash('sha1', text, 'base64url').slice(0, 20);
}

/** JSON with the names of nested objects in order, because a store may give them back in another. */
function canonicalJson(value: Raw): string {
  if (typeof value !== 'object' || value === null) return JSON.stringify(value);
  if (Array.isArray(value)) return `[${value.map((item: Raw) => canonicalJson(item)).join(',')}]`;
  const named = value as Readonly<Record<string, Raw>>;
  return `{${Object.keys(named)
    .sort()
    .map((name) => `${JSON.stringify(name)}:${canonicalJson(named[name] as Raw)}`)
    .join(',')}}`;
}

export function tieFingerprint(tie: Tie): string {
  return fingerprintOf(expectedFields(tie));
}
