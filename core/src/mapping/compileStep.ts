import { failed, good, type MemberId, type Outcome, type References } from '../record/index.js';
import type { Crosswalk } from './crosswalk.js';
import type { Step, StepLens } from './step.js';
import { addressLens } from './steps/address.js';
import { crosswalkLens, yesNoLens } from './steps/choice.js';
import { countryLens } from './steps/country.js';
import { dateLens } from './steps/date.js';
import { emailLens } from './steps/email.js';
import { constantLens, defaultLens } from './steps/filled.js';
import { formulaLens } from './steps/formula.js';
import { hashLens } from './steps/hash.js';
import { moneyLens } from './steps/money.js';
import { nestedLens } from './steps/nested.js';
import { numberLens } from './steps/number.js';
import { linkLens, partLens } from './steps/part.js';
import { personNameLens } from './steps/personName.js';
import { phoneLens } from './steps/phone.js';
import { referenceLens } from './steps/reference.js';
import { caseLens, cutLens, listLens, padLens, replaceLens, trimLens } from './steps/text.js';

/** What a reference step of a mapping refers to. */
export interface Referring {
  /** The knot whose things its shared field holds. */
  readonly knot: string;
  readonly references: References;
}

/**
 * Turns a step into its lens. Fails when the step names a crosswalk that is not there or holds a formula that is none.
 */
export function compileStep(
  step: Step,
  member: MemberId,
  crosswalks: Readonly<Record<string, Crosswalk>>,
  referring?: Referring,
): Outcome<StepLens> {
  switch (step.kind) {
    case 'trim':
      return good(trimLens);
    case 'case':
      return good(caseLens(step));
    case 'cut':
      return good(cutLens(step));
    case 'phone':
      return good(phoneLens(step));
    case 'country':
      return good(countryLens(step));
    case 'crosswalk': {
      const table = Object.hasOwn(crosswalks, step.table) ? crosswalks[step.table] : undefined;
      return table ? good(crosswalkLens(table, member)) : failed(`there is no crosswalk “${step.table}”`);
    }
    case 'yesNo':
      return good(yesNoLens(step));
    case 'number':
      return good(numberLens(step));
    case 'date':
      return good(dateLens(step));
    case 'list':
      return good(listLens(step));
    case 'pad':
      return good(padLens(step));
    case 'replace':
      return good(replaceLens(step));
    case 'part':
      return partLens(step);
    case 'personName':
      return good(personNameLens(step));
    case 'address':
      return good(addressLens(step));
    case 'email':
      return good(emailLens);
    case 'money':
      return moneyLens(step);
    case 'path':
      return nestedLens(step);
    case 'link':
      return linkLens(step);
    case 'hash':
      return good(hashLens(step));
    case 'default':
      return good(defaultLens(step));
    case 'constant':
      return good(constantLens(step));
    case 'formula':
      return formulaLens(step);
    case 'reference':
      return referring
        ? good(referenceLens(step, referring.knot, referring.references))
        : failed('only a field of type reference can refer to something: say to which knot');
    default:
      return failed(`unknown step ${JSON.stringify(step satisfies never)}`);
  }
}
