import { sha256 } from '@noble/hashes/sha2.js';
import { bytesToHex, utf8ToBytes } from '@noble/hashes/utils.js';
import { failed, good, type Outcome, type Raw } from '../../record/index.js';
import { type Step, type StepLens, textOf } from '../step.js';

/**
 * SHA-256 (FIPS 180-4) of the value's UTF-8, in hexadecimal; with a salt before it where there is one. It runs one way.
 */
export function hashLens({ salt = '' }: Extract<Step, { kind: 'hash' }>): StepLens {
  const hash = (value: Raw): Outcome<Raw> => {
    const text = textOf(value);
    return text === undefined ? failed('is not a text') : good(bytesToHex(sha256(utf8ToBytes(salt + text))));
  };
  return { oneWay: true, inbound: hash, outbound: hash };
}
