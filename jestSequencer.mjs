import Sequencer from '@jest/test-sequencer';

/** On a clean checkout nobody knows yet how long tests take: those that take minutes begin first. */
const longest = [
  'simulation',
  'killedWorker',
  'commandLine',
  'commandLine/histories',
  'levelFaults',
  'matchLists',
  'timings',
  'notices',
  'actsDuringRuns',
  'histories',
];

export default class LongestFirst extends Sequencer {
  sort(tests) {
    const place = ({ path }) => {
      const at = longest.findIndex((name) => path.endsWith(`/${name}.test.ts`));
      return at < 0 ? longest.length : at;
    };
    return super.sort(tests).toSorted((one, other) => place(one) - place(other));
  }
}
