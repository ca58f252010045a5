import { newMember } from './newMember.js';

test.each([
  [['read', 'create', 'update', 'archive', 'delete'], { create: true, update: true }, true],
  [['read', 'update'], { create: false, update: true }, false],
  [['read'], { create: false, update: false }, true],
])('an object with the rights %p joins so that it removes nothing and is not left out', (rights, may, starts) => {
  expect(newMember('crm', 'accounts', rights)).toMatchObject({
    may: { ...may, archive: false, delete: false },
    startsAnchors: starts,
  });
});
