import type { FormulaCheck, UniqueCheck } from '../definition/index.js';

/** A check that is often wanted, to begin with. */
export interface ReadyMadeCheck {
  readonly says: string;
  make(
    field: Readonly<{ id: string; name: string }>,
  ): Pick<FormulaCheck, 'says' | 'formula'> | Pick<UniqueCheck, 'says' | 'unique'>;
}

export const readyMadeChecks: readonly ReadyMadeCheck[] = [
  { says: 'is filled', make: ({ id, name }) => ({ formula: `${id} != null`, says: `${name} is empty` }) },
  {
    says: 'is unique in its system',
    make: ({ id, name }) => ({ unique: id, says: `${name} is that of another record too` }),
  },
  {
    says: 'looks like an email',
    make: ({ id, name }) => ({
      formula: `${id} == null || fits(${id}, "[^@ ]+@[^@ ]+[.][^@ ]+")`,
      says: `${name} is no email`,
    }),
  },
  {
    says: 'fits a pattern',
    make: ({ id, name }) => ({
      formula: `${id} == null || fits(${id}, "[A-Z0-9 ]+")`,
      says: `${name} is not written as it should be`,
    }),
  },
  {
    says: 'has at most 40 characters',
    make: ({ id, name }) => ({
      formula: `${id} == null || length(${id}) <= 40`,
      says: `${name} has more than 40 characters`,
    }),
  },
  {
    says: 'lies within 0 and 100',
    make: ({ id, name }) => ({
      formula: `${id} == null || (number(${id}) >= 0 && number(${id}) <= 100)`,
      says: `${name} is not between 0 and 100`,
    }),
  },
];
