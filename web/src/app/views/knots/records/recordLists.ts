import type { RecordListName } from '@anchor-knot/contracts';

/** The lists of the records that are not tied, in the order of what a person can do about them. */
export const recordLists: readonly { id: RecordListName; name: string; counted: string; says: string }[] = [
  { id: 'waiting', name: 'Waiting', counted: 'wait', says: 'that wait for a person' },
  { id: 'rejected', name: 'Rejected', counted: 'rejected', says: 'that were rejected' },
  { id: 'aside', name: 'Set aside', counted: 'set aside', says: 'that were set aside' },
  { id: 'untied', name: 'Untied', counted: 'untied', says: 'that match nothing and may start nothing' },
  { id: 'filtered', name: 'Outside the filter', counted: 'left out', says: 'that the filter leaves out' },
];
