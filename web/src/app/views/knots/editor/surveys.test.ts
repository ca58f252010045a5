/** The definition tried on all records: followed, taken over, and known to be out of date. */
import { readFileSync } from 'node:fs';
import { HttpErrorResponse } from '@angular/common/http';
import { signal } from '@angular/core';
import { TestBed } from '@angular/core/testing';
import {
  type KnotDefinition,
  knotDraftSchema,
  weightsSchema,
  knotFileSchema,
  type SurveyLine,
} from '@anchor-knot/contracts';
import { mapTo, setEvidence, setThresholds, type Edit } from '@anchor-knot/core';
import { Subject } from 'rxjs';

import { KnotsApi } from '../../../api/knotsApi';
import { KnotEditor } from './knotEditor';
import { Surveys } from './surveys';

const demo: KnotDefinition = knotDraftSchema.parse(
  knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8'))).knot,
);
const learned = demo.evidence?.weights;
if (!demo.evidence || !learned) throw new Error('the demo weighs nothing');
const { weights: _, ...unlearned } = demo.evidence;

function surveys(from: KnotDefinition) {
  const definition = signal(from);
  const saving = signal<'saved' | 'saving'>('saved');
  const asked: boolean[] = [];
  let lines = new Subject<SurveyLine>();
  TestBed.configureTestingModule({
    providers: [
      Surveys,
      {
        provide: KnotsApi,
        useValue: {
          survey: (_: string, learn: boolean) => {
            asked.push(learn);
            return (lines = new Subject());
          },
        },
      },
      {
        provide: KnotEditor,
        useValue: {
          definition,
          saving,
          members: signal([{ id: 'crm', systemName: 'Fernhill CRM' }]),
          edit: (edit: Edit) => definition.update(edit),
        },
      },
    ],
  });
  const survey = TestBed.inject(Surveys);
  const begin = (anew = false) => {
    survey.begin('customers', anew);
    TestBed.tick();
  };
  const evidence = {
    weights: weightsSchema.parse({ ...learned, prior: 0.25 }),
    free: 3,
    filled: [1, 1, 1, 1],
    compared: 2,
    records: 9,
    bins: [],
  };
  const done: SurveyLine = { kind: 'done', identity: { rules: [], evidence, together: 1, alone: 1, waiting: 0 } };
  const member: SurveyLine = {
    kind: 'member',
    member: 'crm',
    survey: {
      records: 5,
      takePart: 0,
      filterFails: 1,
      filterReason: 'x is no number',
      inside: [],
      outside: [],
      cells: { phone: { filled: 4, unreadable: 1, reasons: ['letters'], examples: [] } },
      checks: {},
      unknownValues: [],
    },
  };
  return {
    survey,
    begin,
    definition,
    saving,
    asked,
    done,
    member,
    send: (line: SurveyLine) => lines.next(line),
    fail: (error: unknown) => lines.error(error),
    end: () => lines.complete(),
  };
}

test('it waits for the last edit to be kept, tells how far it is, and what it found where', () => {
  const { survey, begin, saving, asked, send, member, done, end } = surveys(demo);
  saving.set('saving');
  begin();
  expect(asked).toEqual([]);
  saving.set('saved');
  TestBed.tick();
  expect(asked).toEqual([false]);
  send({ kind: 'progress', member: 'crm', records: 2 });
  expect(survey.progress()).toMatchObject({ member: 'crm', records: 2 });
  send(member);
  send({ kind: 'trouble', member: 'shop', says: 'it does not answer.' });
  send({ kind: 'comparing', done: 3, total: 9 });
  expect(survey.progress()).toEqual({ compared: 3, of: 9 });
  send(done);
  end();
  expect([survey.progress(), survey.isCurrent()]).toEqual([undefined, true]);
  expect(survey.findings().map(({ at, says }) => [at, says])).toEqual([
    ['members.crm', 'none of 5 records takes part'],
    ['members.crm', 'the filter fails on 1 of 5 records: x is no number'],
    ['fields.phone.mappings.crm', '1 of 4 values cannot be read: letters'],
    ['members.shop', 'it does not answer.'],
  ]);
});

test('missing weights are learned and taken over, and what was found stays right when a line is moved', () => {
  const { survey, begin, definition, asked, send, done } = surveys({ ...demo, evidence: unlearned });
  begin();
  expect(asked).toEqual([true]);
  send(done);
  expect(definition().evidence?.weights?.prior).toBe(0.25);
  expect(survey.evidence()?.free).toBe(3);
  definition.update(setThresholds({ upper: 9, lower: 1 }));
  expect([survey.evidence()?.free, survey.isCurrent()]).toEqual([3, false]);
  definition.update(mapTo('phone', 'crm', 'contact.mobile', true));
  expect(survey.evidence()).toBeUndefined();
});

test('what was learned of what is weighed no longer is not taken over', () => {
  const { survey, begin, definition, send, done } = surveys(demo);
  begin(true);
  definition.update(setEvidence(unlearned.fields.slice(1)));
  send(done);
  expect(definition().evidence?.weights).toBeUndefined();
  expect(survey.evidence()).toBeUndefined();
});

test('a refusal is told, and stopping forgets what was asked', () => {
  const { survey, begin, fail, send, done } = surveys(demo);
  begin();
  fail(new HttpErrorResponse({ status: 409, error: { code: 'busy', says: 'It is being tried already.' } }));
  expect([survey.problem()?.says, survey.progress()]).toEqual(['It is being tried already.', undefined]);
  begin();
  survey.stop();
  send(done);
  expect(survey.last()).toBeUndefined();
});
