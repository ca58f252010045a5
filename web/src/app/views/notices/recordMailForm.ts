import { FormControl, FormGroup } from '@angular/forms';
import { type FollowUp, followedOutcomes, followUpSchema } from '@anchor-knot/contracts';
import { listed } from '../../words/sentences';

/** A mail about single records, as it is set by hand. */
const choice = <Value>(value: Value) => new FormControl<Value>(value, { nonNullable: true });

export type RecordMailForm = ReturnType<typeof recordMailForm>;

export const newRecordMail: FollowUp = {
  name: '',
  isOn: true,
  knot: '',
  member: '',
  outcomes: ['created'],
  addresses: [],
  addressField: null,
  subject: '{{ title }} was {{ outcome }} in {{ system }}',
  text: '{{ title }} was {{ outcome }} in {{ system }}.\n\nThere: {{ page }}\nHere: {{ here }}',
  mostPerHour: 60,
};

export function recordMailForm(mail: FollowUp) {
  return new FormGroup({
    name: choice(mail.name),
    isOn: choice(mail.isOn),
    knot: choice(mail.knot),
    member: choice(mail.member),
    outcomes: new FormGroup(
      Object.fromEntries(followedOutcomes.map((outcome) => [outcome, choice(mail.outcomes.includes(outcome))])),
    ),
    addresses: choice(mail.addresses.join(', ')),
    addressField: choice(mail.addressField ?? ''),
    subject: choice(mail.subject),
    text: choice(mail.text),
    mostPerHour: new FormControl<number | null>(mail.mostPerHour),
  });
}

const words: Readonly<Record<string, string>> = {
  name: 'It needs a name of at most 100 characters.',
  knot: 'Choose a knot.',
  member: 'Choose a member.',
  outcomes: 'Choose something to tell of.',
  addresses: 'Addresses such as name@company.example, with commas between them; or a field that holds one.',
  subject: 'It needs a subject of at most 300 characters.',
  text: 'It needs a text of at most 10,000 characters.',
  mostPerHour: 'From 1 to 1000.',
};

/** Says beside each field what is wrong with it. @returns the mail; `undefined` as long as something is wrong */
export function recordMailOf(form: RecordMailForm): FollowUp | undefined {
  const { outcomes, addresses, addressField, mostPerHour, ...value } = form.getRawValue();
  const parsed = followUpSchema.safeParse({
    ...value,
    outcomes: followedOutcomes.filter((outcome) => outcomes[outcome]),
    addresses: addresses
      .split(/[,;\s]+/)
      .map((address) => address.trim())
      .filter((address) => address !== ''),
    addressField: addressField === '' ? null : addressField,
    mostPerHour: Number(mostPerHour),
  });
  const wrong = new Set((parsed.error?.issues ?? []).map(({ path }) => String(path[0])));
  for (const [name, control] of Object.entries(form.controls))
    control.setErrors(wrong.has(name) ? { wrong: words[name] ?? name } : null);
  return parsed.data;
}

/** Of what and to whom, in one sentence. @param names of knots and their members */
export function recordMailSentence(
  { knot, member, outcomes, addresses, addressField }: FollowUp,
  names: { readonly knot: string; readonly system: string; readonly field: string },
): string {
  const to = [...addresses, ...(addressField === null ? [] : [`the address in ${names.field}`])];
  const are = to.length > 1 ? 'get' : 'gets';
  return (
    `${listed(to)} ${are} a mail when a record of ${names.knot || knot} was ` +
    `${listed(outcomes, 'or')} in ${names.system || member}.`
  );
}
