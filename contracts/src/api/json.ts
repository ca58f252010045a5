import { z } from 'zod';

/** Any JSON value. */
export const json = z.json();
/** A moment: ISO 8601 in UTC. */
export const time = z.iso.datetime();

/** A value that nobody changes, down to its last part. */
export type DeepReadonly<T> = T extends readonly (infer Item)[]
  ? readonly DeepReadonly<Item>[]
  : T extends object
    ? { readonly [Name in keyof T]: DeepReadonly<T[Name]> }
    : T;
