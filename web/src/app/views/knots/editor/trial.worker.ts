/// <reference lib="webworker" />
import {
  checkFormulaTypes,
  formulaHelp,
  formulaTypeOf,
  inverseFormula,
  type Knot,
  type KnownName,
  LookUps,
  type MemberSource,
  Questions,
  readFormula,
  reviewKnot,
  type Substitute,
  tryCheck,
  tryFilter,
  tryRecords,
} from '@anchor-knot/core';
import type { FormulaVerdict, TrialAnswer, TrialQuestion } from './trialMessages';

/**
 * Tries definitions off the main thread, so that typing never waits. What was read of the systems is sent once and
 * kept.
 */
let sources: Readonly<Record<string, MemberSource>> = {};

addEventListener('message', ({ data }: MessageEvent<TrialQuestion>) => {
  if (data.kind === 'sources') {
    sources = data.sources as Readonly<Record<string, MemberSource>>;
    return;
  }
  const answer: TrialAnswer = answerTo(data);
  postMessage(answer);
});

function answerTo(question: Exclude<TrialQuestion, { kind: 'sources' }>): TrialAnswer {
  switch (question.kind) {
    case 'try':
      return tried(question);
    case 'review':
      return { id: question.id, kind: 'reviewed', findings: reviewKnot(question.definition as Knot, sources) };
    case 'filter':
      return {
        id: question.id,
        kind: 'filtered',
        outcome: tryFilter(question.formula, sources[question.member]?.records ?? [], Date.now()),
      };
    case 'check':
      return {
        id: question.id,
        kind: 'checked',
        outcomes: Object.fromEntries(
          question.members.map((member) => [
            member,
            tryCheck(question.definition as Knot, question.check, member, sources[member]?.records ?? []),
          ]),
        ),
      };
    case 'formula':
      return { id: question.id, kind: 'formula', verdict: verdictOn(question) };
    case 'inverse':
      return { id: question.id, kind: 'inverse', outcome: inverseFormula(question.source) };
    case 'functions':
      return { id: question.id, kind: 'functions', functions: formulaHelp };
    default:
      return question satisfies never;
  }
}

/** Tries records; without what is known of other knots it is told what would have to be. */
function tried({ id, definition, records, known }: Extract<TrialQuestion, { kind: 'try' }>): TrialAnswer {
  const questions = new Questions();
  const references = known
    ? new LookUps(known.names as KnownName[], new Map(), known.substitutes as Substitute[])
    : questions;
  const trial = tryRecords(definition as Knot, records as never, references);
  const asked = [...questions.asked].map(([knot, { keys, values }]) => ({
    knot,
    keys: Object.fromEntries([...keys].map(([member, texts]) => [member, [...texts]])),
    values: Object.fromEntries([...values].map(([field, texts]) => [field, [...texts]])),
  }));
  return { id, kind: 'tried', trial, asked };
}

function verdictOn({ source, types, wanted }: Extract<TrialQuestion, { kind: 'formula' }>): FormulaVerdict {
  const read = readFormula(source, Object.keys(types));
  if (!read.ok) return { problem: read };
  const inFormulas = Object.fromEntries(
    Object.entries(types).map(([name, type]) => [name, type && formulaTypeOf(type)]),
  );
  const checked = checkFormulaTypes(source, inFormulas);
  if (!checked.ok) return { warning: checked };
  const asked = wanted && formulaTypeOf(wanted);
  // Text can hold anything.
  if (asked === undefined || asked === 'text' || checked.gives === undefined || checked.gives === asked) return {};
  return { warning: { reason: `it gives ${checked.gives}, and ${asked} is wanted here` } };
}
