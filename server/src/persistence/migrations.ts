import { Installation1764000000000 } from './migrations/1764000000000-Installation.js';
import { SystemObjects1764100000000 } from './migrations/1764100000000-SystemObjects.js';
import { SystemAccess1764200000000 } from './migrations/1764200000000-SystemAccess.js';
import { KnotDrafts1764300000000 } from './migrations/1764300000000-KnotDrafts.js';
import { AnchorBeginnings1764300100000 } from './migrations/1764300100000-AnchorBeginnings.js';
import { TieEnds1764400100000 } from './migrations/1764400100000-TieEnds.js';
import { Evidence1764500000000 } from './migrations/1764500000000-Evidence.js';
import { Accounts1764600000000 } from './migrations/1764600000000-Accounts.js';
import { PartedRecords1764700000000 } from './migrations/1764700000000-PartedRecords.js';
import { DecisionHandling1764900000000 } from './migrations/1764900000000-DecisionHandling.js';
import { KnotStates1764910000000 } from './migrations/1764910000000-KnotStates.js';
import { PagesOfObjects1764940000000 } from './migrations/1764940000000-PagesOfObjects.js';
import { SeenDecisions1764945000000 } from './migrations/1764945000000-SeenDecisions.js';
import { DeclaredFields1764955000000 } from './migrations/1764955000000-DeclaredFields.js';
import { StartCalls1764990000000 } from './migrations/1764990000000-StartCalls.js';
import { Timings1764960000000 } from './migrations/1764960000000-Timings.js';
import { FailureReasons1764985000000 } from './migrations/1764985000000-FailureReasons.js';
import { Notices1764970000000 } from './migrations/1764970000000-Notices.js';
import { PausedTogether1765000000000 } from './migrations/1765000000000-PausedTogether.js';
import { RestingRecords1765010000000 } from './migrations/1765010000000-RestingRecords.js';
import { StagedTies1765020000000 } from './migrations/1765020000000-StagedTies.js';
import { RunDays1765030000000 } from './migrations/1765030000000-RunDays.js';
import { FollowUps1765040000000 } from './migrations/1765040000000-FollowUps.js';
import { Exchanges1765050000000 } from './migrations/1765050000000-Exchanges.js';
import { RecordCounts1765060000000 } from './migrations/1765060000000-RecordCounts.js';
import { Outcomes1765070000000 } from './migrations/1765070000000-Outcomes.js';
import { CallShares1765080000000 } from './migrations/1765080000000-CallShares.js';
import { SlotLooks1765090000000 } from './migrations/1765090000000-SlotLooks.js';
import { RejectedTies1765100000000 } from './migrations/1765100000000-RejectedTies.js';
import { Attempts1765110000000 } from './migrations/1765110000000-Attempts.js';
import { RunBatches1765120000000 } from './migrations/1765120000000-RunBatches.js';
import { AccessEnds1765130000000 } from './migrations/1765130000000-AccessEnds.js';
import { References1765140000000 } from './migrations/1765140000000-References.js';
import { Certificates1765170000000 } from './migrations/1765170000000-Certificates.js';
import { ConsentEnds1765180000000 } from './migrations/1765180000000-ConsentEnds.js';
import { OutsideCounts1765200000000 } from './migrations/1765200000000-OutsideCounts.js';
import { Substitutes1765300000000 } from './migrations/1765300000000-Substitutes.js';
import { Series1765310000000 } from './migrations/1765310000000-Series.js';
import { ThingChanges1765320000000 } from './migrations/1765320000000-ThingChanges.js';
import { StagedAnchors1765190000000 } from './migrations/1765190000000-StagedAnchors.js';
import { ListedRecords1765160000000 } from './migrations/1765160000000-ListedRecords.js';
import { WaitingRecordsRest1765150000000 } from './migrations/1765150000000-WaitingRecordsRest.js';
import { ReadHours1764995000000 } from './migrations/1764995000000-ReadHours.js';
import { Retries1764980000000 } from './migrations/1764980000000-Retries.js';
import { SearchIndexes1764950000000 } from './migrations/1764950000000-SearchIndexes.js';
import { UniqueValues1764400000000 } from './migrations/1764400000000-UniqueValues.js';

/** In the order in which they are applied; only ever added to. */
export const migrations = [
  Installation1764000000000,
  SystemObjects1764100000000,
  SystemAccess1764200000000,
  KnotDrafts1764300000000,
  AnchorBeginnings1764300100000,
  UniqueValues1764400000000,
  TieEnds1764400100000,
  Evidence1764500000000,
  Accounts1764600000000,
  PartedRecords1764700000000,
  DecisionHandling1764900000000,
  KnotStates1764910000000,
  PagesOfObjects1764940000000,
  SeenDecisions1764945000000,
  DeclaredFields1764955000000,
  Timings1764960000000,
  Notices1764970000000,
  Retries1764980000000,
  FailureReasons1764985000000,
  StartCalls1764990000000,
  ReadHours1764995000000,
  PausedTogether1765000000000,
  RestingRecords1765010000000,
  StagedTies1765020000000,
  RunDays1765030000000,
  FollowUps1765040000000,
  Exchanges1765050000000,
  RecordCounts1765060000000,
  Outcomes1765070000000,
  CallShares1765080000000,
  SlotLooks1765090000000,
  RejectedTies1765100000000,
  Attempts1765110000000,
  RunBatches1765120000000,
  AccessEnds1765130000000,
  References1765140000000,
  WaitingRecordsRest1765150000000,
  ListedRecords1765160000000,
  Certificates1765170000000,
  ConsentEnds1765180000000,
  StagedAnchors1765190000000,
  OutsideCounts1765200000000,
  Substitutes1765300000000,
  Series1765310000000,
  ThingChanges1765320000000,
];

/** As TypeORM takes it from the name. */
const timeOf = ({ name }: { readonly name: string }): number => Number(name.slice(-13));

/** And what people search by: nobody searches in what the command line keeps, and its engine lacks the extension. */
export const serverMigrations = [...migrations, SearchIndexes1764950000000].toSorted(
  (one, other) => timeOf(one) - timeOf(other),
);
