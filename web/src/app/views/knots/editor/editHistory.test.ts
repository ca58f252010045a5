import { jest } from '@jest/globals';
import { EditHistory } from './editHistory';

test('each step is undone and done again, until another one is made', () => {
  const history = new EditHistory<string>();
  expect([history.now(), history.undo(), history.redo()]).toEqual([undefined, false, false]);
  history.begin('a');
  expect(history.canUndo()).toBe(false);
  for (const next of ['b', 'c']) history.put(next);
  expect([history.undo(), history.now(), history.undo(), history.now(), history.undo()]).toEqual([
    true,
    'b',
    true,
    'a',
    false,
  ]);
  expect([history.redo(), history.now(), history.canRedo()]).toEqual([true, 'b', true]);
  history.put('d');
  expect([history.canRedo(), history.redo(), history.now()]).toEqual([false, false, 'd']);
  history.begin('e');
  expect([history.canUndo(), history.now()]).toEqual([false, 'e']);
});

test('what is typed in one place is one step, until there is a pause, a step back, or another place', () => {
  let now = 1000;
  const clock = jest.spyOn(Date, 'now').mockImplementation(() => now);
  const history = new EditHistory<string>();
  const type = (text: string, about: string, after: number): void => {
    now += after;
    history.put(text, about);
  };
  history.begin('');
  for (const text of ['n', 'na', 'nam']) type(text, 'name', 200);
  type('name', 'name', 5000);
  type('name!', 'note', 100);
  const undone: (string | undefined)[] = [];
  while (history.undo()) undone.push(history.now());
  expect(undone).toEqual(['name', 'nam', '']);
  type('x', 'name', 100);
  type('xy', 'name', 100);
  history.undo();
  type('z', 'name', 100);
  history.undo();
  expect(history.now()).toBe('');
  clock.mockRestore();
});
