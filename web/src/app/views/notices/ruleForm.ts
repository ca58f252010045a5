import { FormArray, FormControl, FormGroup } from '@angular/forms';
import { type NoticeRule, noticeRuleSchema, noticeTopicNames, type Recipient } from '@anchor-knot/contracts';

/** A rule of who is told of what, as it is set by hand. */
const choice = <Value>(value: Value) => new FormControl<Value>(value, { nonNullable: true });
const number = (value: number) => new FormControl<number | null>(value);

export type RecipientForm = ReturnType<typeof recipientForm>;
export type RuleForm = ReturnType<typeof ruleForm>;

export const newRule: NoticeRule = {
  name: '',
  isOn: true,
  topics: ['run failed', 'run stopped', 'run missed', 'late', 'system in trouble'],
  decisionKinds: [],
  waitsHours: 24,
  usedPercent: 80,
  knots: null,
  recipients: [{ kind: 'mail', address: '' }],
  rhythm: { kind: 'at once' },
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone,
  isRepeated: false,
  tellsEnd: true,
  mostPerHour: 12,
};

export function recipientForm({ kind, address }: Recipient = { kind: 'mail', address: '' }) {
  return new FormGroup({ kind: choice(kind), address: choice(address) });
}

export function ruleForm(rule: NoticeRule) {
  return new FormGroup({
    name: choice(rule.name),
    isOn: choice(rule.isOn),
    topics: new FormGroup(
      Object.fromEntries(noticeTopicNames.map((topic) => [topic, choice(rule.topics.includes(topic))])),
    ),
    decisionKinds: choice(rule.decisionKinds),
    waitsHours: number(rule.waitsHours),
    usedPercent: number(rule.usedPercent),
    isOfAllKnots: choice(rule.knots === null),
    knots: choice(rule.knots ?? []),
    recipients: new FormArray(rule.recipients.map((recipient) => recipientForm(recipient))),
    rhythm: choice(rule.rhythm.kind),
    at: choice(rule.rhythm.kind === 'daily' ? rule.rhythm.at : '07:30'),
    zone: choice(rule.zone),
    isRepeated: choice(rule.isRepeated),
    tellsEnd: choice(rule.tellsEnd),
    mostPerHour: number(rule.mostPerHour),
  });
}

/** What the form says, whether it can be or not. A field that is empty, or no number, says 0. */
function valueOf(form: RuleForm): unknown {
  const { topics, isOfAllKnots, knots, recipients, rhythm, at, ...value } = form.getRawValue();
  return {
    ...value,
    topics: noticeTopicNames.filter((topic) => topics[topic]),
    waitsHours: Number(value.waitsHours),
    usedPercent: Number(value.usedPercent),
    mostPerHour: Number(value.mostPerHour),
    knots: isOfAllKnots ? null : knots,
    recipients: recipients.map(({ kind, address }) => ({ kind, address: address.trim() })),
    rhythm: rhythm === 'daily' ? { kind: rhythm, at: at.trim() } : { kind: rhythm },
    zone: value.zone.trim(),
  };
}

const words: Readonly<Record<string, string>> = {
  name: 'It needs a name of at most 100 characters.',
  waitsHours: 'From 1 to 8760 hours.',
  usedPercent: 'From 1 to 100 percent.',
  mostPerHour: 'From 1 to 1000.',
  zone: 'There is no such time zone.',
  at: 'A time such as 07:30.',
  knots: 'Choose a knot, or all.',
  topics: 'Choose something to tell of.',
  recipients: 'Name somebody to tell.',
  mail: 'An address such as name@company.example.',
  webhook: 'An address that begins with https:// or http://.',
};

/** Says beside each field what is wrong with it. @returns the rule; `undefined` as long as something is wrong */
export function ruleOf(form: RuleForm): NoticeRule | undefined {
  const parsed = noticeRuleSchema.safeParse(valueOf(form));
  const wrong = new Map<FormControl | FormGroup | FormArray, string>();
  for (const { path } of parsed.error?.issues ?? []) {
    const [field, place, part] = path.map(String);
    const recipient = field === 'recipients' ? form.controls.recipients.at(Number(place)) : undefined;
    if (recipient) wrong.set(recipient.controls.address, words[recipient.controls.kind.value] ?? '');
    else if (field === 'rhythm') wrong.set(form.controls.at, words['at'] ?? '');
    else if (field !== undefined && field in form.controls)
      wrong.set(form.controls[field as keyof RuleForm['controls']], words[field] ?? part ?? field);
  }
  const all = [
    ...Object.values(form.controls),
    ...form.controls.recipients.controls.map(({ controls }) => controls.address),
  ];
  for (const control of all) {
    const says = wrong.get(control);
    control.setErrors(says === undefined ? null : { wrong: says });
  }
  return parsed.data;
}
