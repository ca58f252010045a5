/** A shopper as Market Row keeps it. Its API speaks of `shopper_id`; times are UTC without saying so. */
export interface Shopper {
  readonly id: string;
  readonly first_name: string;
  readonly surname: string;
  readonly company_name: string;
  readonly mail: string;
  readonly tel: string;
  readonly address_line: string;
  readonly post_code: string;
  readonly city: string;
  readonly country_code: string;
  readonly group_id: number | null;
  readonly credit_ceiling: string;
  readonly newsletter: 'Y' | 'N' | '';
  readonly remark: string;
  readonly external_ref: string;
  readonly changed: string;
}

export type ShopperInput = { [Name in keyof Shopper]?: unknown };

const lengths: Partial<Record<keyof Shopper, number>> = {
  first_name: 60,
  surname: 60,
  company_name: 40,
  mail: 120,
  tel: 30,
  address_line: 120,
  post_code: 12,
  city: 60,
  country_code: 2,
  remark: 1000,
  external_ref: 64,
  credit_ceiling: 20,
};
const groups = [3, 7, 8, 9];

/** Takes a new or changed shopper apart and says what is wrong, in this system's own words. */
export function changeShopper(
  known: Shopper | undefined,
  input: ShopperInput,
  newId: string,
  now: Date,
): { shopper: Shopper } | { reason: string } {
  const reasons: string[] = [];
  const blank: Omit<Shopper, 'id' | 'changed'> = {
    first_name: '',
    surname: '',
    company_name: '',
    mail: '',
    tel: '',
    address_line: '',
    post_code: '',
    city: '',
    country_code: '',
    group_id: null,
    credit_ceiling: '',
    newsletter: '',
    remark: '',
    external_ref: '',
  };
  const shopper: Record<string, unknown> = { ...blank, ...known };
  for (const [field, value] of Object.entries(input)) {
    if (!(field in blank)) continue;
    const longest = lengths[field as keyof Shopper];
    if (longest !== undefined) {
      const text = value === null ? '' : String(value);
      if ([...text].length > longest) reasons.push(`${field}: at most ${longest} characters`);
      shopper[field] = text;
    } else shopper[field] = value;
  }
  if (shopper.mail === '') reasons.push('mail: must be given');
  if (!['Y', 'N', ''].includes(shopper.newsletter as string)) reasons.push('newsletter: Y or N');
  if (shopper.group_id === '') shopper.group_id = null;
  if (shopper.group_id !== null && !groups.includes(Number(shopper.group_id)))
    reasons.push(`group_id: no group ${String(shopper.group_id)}`);
  if (shopper.group_id !== null) shopper.group_id = Number(shopper.group_id);
  if (shopper.credit_ceiling !== '' && !/^\d+(\.\d\d)?$/.test(String(shopper.credit_ceiling)))
    reasons.push('credit_ceiling: an amount such as 1250.00');
  if (reasons.length > 0) return { reason: reasons.join('; ') };
  return {
    shopper: {
      ...(shopper as unknown as Shopper),
      id: known?.id ?? newId,
      changed: now.toISOString().slice(0, 19).replace('T', ' '),
    },
  };
}
