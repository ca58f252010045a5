import type { Knot, Mapping } from '../definition/index.js';
import { smallKnot } from '../testing/smallKnot.js';
import { World } from '../testing/world.js';

test('the key of a record that we made is told to the members that hold it, with the next run', async () => {
  const knot = smallKnot({ members: 2, rule: { steps: [{ step: 'ask' }] } });
  const [key, field] = knot.fields as [Knot['fields'][number], Knot['fields'][number]];
  const mappings = {
    a: { ...(field.mappings.a as Mapping), field: '@key', direction: 'from' as const },
    b: { ...(field.mappings.b as Mapping), field: 'row' },
  };
  const world = new World({ ...knot, fields: [key, { ...field, id: 'row', name: 'Row', mappings }] });
  world.edit('b', '1', 'key', 'k');
  await world.run();
  const [made] = [...world.of('a').keys()];
  await world.run();
  expect(world.value('b', '1', 'row')).toBe(made);
  expect((await world.run()).operations).toEqual([]);
});
