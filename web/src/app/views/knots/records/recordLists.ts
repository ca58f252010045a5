import type { RecordListName } from '@anchor-knot/contracts';

interface ListWords<Id extends RecordListName = RecordListName> {
  readonly id: Id;
  readonly name: string;
  readonly counted: string;
  readonly says: string;
}

/** The lists of the records that are not tied, in the order of what a person can do about them. */
export const recordLists: readonly ListWords<Exclude<RecordListName, 'unacknowledged'>>[] = [
  { id: 'waiting', name: 'Waiting', counted: 'wait', says: 'that wait for a person' },
  { id: 'rejected', name: 'Rejected', counted: 'rejected', says: 'that were rejected' },
  { id: 'aside', name: 'Set aside', counted: 'set aside', says: 'that were set aside' },
  { id: 'untied', name: 'Untied', counted: 'untied', says: 'that match nothing and may start nothing' },
  { id: 'filtered', name: 'Outside the filter', counted: 'left out', says: 'that the filter leaves out' },
];

/** Tied records that wait: they are counted besides. */
export const unacknowledgedList: ListWords<'unacknowledged'> = {
  id: 'unacknowledged',
  name: 'Not acknowledged',
  counted: 'not acknowledged',
  says: 'of which their system has not acknowledged what was written',
};
