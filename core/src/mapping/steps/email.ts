import { failed, good, type Raw } from '../../record/index.js';
import { type StepLens, textOf } from '../step.js';

/**
 * What browsers take for an email address (HTML Living Standard, "valid email address"), with a point in the domain.
 */
const valid =
  /^[a-z0-9.!#$%&'*+/=?^_`{|}~-]+@[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?(?:\.[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?)+$/;
/** The longest that SMTP can carry (RFC 5321, 4.5.3.1.3, without the angle brackets). */
const longest = 254;

/** An email address: in small letters, without a name or `mailto:` around it. */
export const emailLens: StepLens = {
  inbound: (value: Raw) => {
    const text = textOf(value)?.trim() ?? '';
    const bare = (/<([^<>]*)>$/.exec(text)?.[1] ?? text.replace(/^mailto:/i, '')).trim().toLowerCase();
    return bare.length <= longest && valid.test(bare) ? good(bare) : failed(`“${text}” is no email address`);
  },
  outbound: (value: Raw) => {
    const text = String(value).toLowerCase();
    const isEmail = text.length <= longest && valid.test(text);
    return isEmail ? good(value) : failed(`“${String(value)}” is no email address`);
  },
};
