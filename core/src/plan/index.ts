export { afterWrite, holdsWrite, type WriteResult } from './afterWrite.js';
export { breachedGuards, type GuardBreach, type MemberCounts } from './guard.js';
export type {
  AnchorPlan,
  AskedDeletion,
  CreateOperation,
  FieldChange,
  Operation,
  RemoveOperation,
  UpdateOperation,
  Withheld,
  WriteBackOperation,
} from './operation.js';
export { neededNumbers, type Numbers, type Planned } from './numbers.js';
export { planAnchor, type PlanLimits } from './planAnchor.js';
export { type Forecast, forecastOf, joinAnchors, lastReading, newTie, splitAnchor } from './regroup.js';
export type { LinkOf } from './writeBack.js';
