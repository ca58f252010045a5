/** The source itself: nobody but the door changes anchors and ties. */
import { readdirSync, readFileSync } from 'node:fs';
import { join } from 'node:path';

const sources = join(import.meta.dirname, '..');
const files = readdirSync(sources, { recursive: true, encoding: 'utf8' }).filter(
  (name) => name.endsWith('.ts') && !/\.test\.ts$|testing\/|migrations\//.test(name),
);
const textOf = (name: string): string => readFileSync(join(sources, name), 'utf8');

test('statements that change anchors or ties are in one file', () => {
  const changes = /\b(insert\s+into|update|delete\s+from)\s+(anchor|tie)\b/i;
  expect(files.length).toBeGreaterThan(80);
  expect(files.filter((name) => changes.test(textOf(name)))).toEqual(['persistence/tables/anchors.ts']);
});

test('what changes anchors or ties is called by the door alone', () => {
  const changing = ['saveAnchors', 'deleteTies', 'deleteAnchor', 'markGone', 'forgetSeen'];
  const imports = (name: string): readonly string[] =>
    [...textOf(name).matchAll(/import \{([^}]*)\} from '[^']*tables\/anchors\.js'/g)].flatMap(([, names]) =>
      (names ?? '').split(',').map((one) => one.replace(/\btype\b/, '').trim()),
    );
  expect(files.filter((name) => imports(name).some((one) => changing.includes(one)))).toEqual(['anchors/door.ts']);
});
