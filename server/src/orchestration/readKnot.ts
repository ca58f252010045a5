import pLimit from 'p-limit';
import type { CompiledMember, MemberId } from '@anchor-knot/core';
import type { Connector } from '@anchor-knot/connectors';
import { settleGone } from './findGone.js';
import type { RunOptions } from './installation.js';
import { OutsideRecords } from './outsideRecords.js';
import { type MemberReading, readMember } from './readMembers.js';
import { rejectRepeated } from './rejectRepeated.js';
import { Halt, type RunAtWork } from './runAtWork.js';
import type { MemberCursor } from './stored.js';
import { together } from './together.js';

/** What could not be taken is told of in decisions; a run names the first ones. */
const mostNoted = 100;

/**
 * Reads the members of a knot that a run has to read, side by side, and stages what differs from what is known.
 * @returns the records outside of anchors, with what was read of them
 * @throws {Halt} when a check stops the run
 */
export async function readKnot(run: RunAtWork): Promise<OutsideRecords> {
  const { installation, options, lease, readings } = run;
  const { knot, knotVersion, members, records } = options;
  run.tally.begin('reading');
  const [outside, cursors] = await Promise.all([
    OutsideRecords.begin(installation.store, options, lease),
    installation.store.cursors(knot.id),
  ]);
  // Under another version a record may say something else, also one that nobody has touched.
  const isAsked = ({ id }: CompiledMember): boolean =>
    (members?.has(id) ?? true) || cursors.get(id)?.knotVersion !== knotVersion;
  const unasked = knot.members.filter((member) => !isAsked(member));
  await readMembers(run, knot.members.filter(isAsked), outside, cursors);
  const named = unasked.filter(({ id }) => records?.has(id));
  await readMembers(run, named, outside, cursors, records);
  // What is new in one may be new in another as well, that did not tell of it yet.
  if ([...readings.values()].some(({ newcomers }) => newcomers > 0)) await readMembers(run, unasked, outside, cursors);
  const stopping = await rejectRepeated(installation, options, lease, outside);
  if (stopping !== undefined) throw new Halt('stopped by a check', stopping);
  return outside;
}

/** Members of which it is not known whether a thing is there already. */
export function partlyRead({ options, readings }: RunAtWork): ReadonlySet<MemberId> {
  const isWhole = ({ id }: CompiledMember): boolean => {
    const reading = readings.get(id);
    return reading?.unusable.length === 0 && !reading.isNamed;
  };
  return new Set(options.knot.members.filter((member) => !isWhole(member)).map(({ id }) => id));
}

/** @param named records that alone are read of their members */
async function readMembers(
  run: RunAtWork,
  members: readonly CompiledMember[],
  outside: OutsideRecords,
  cursors: ReadonlyMap<MemberId, MemberCursor>,
  named?: RunOptions['records'],
): Promise<void> {
  const oneByOne = pLimit(1);
  await together(members, async (member, failed) => {
    const connector = run.connectors.get(member.id);
    if (!connector || run.troubles.has(member.id)) return;
    const afterPage = async (): Promise<void> => {
      if (failed()) throw new Error('the reading of another member failed');
      await run.beat();
    };
    const read = () =>
      readMember(
        run.installation,
        run.options,
        run.lease,
        member,
        connector,
        outside,
        run.tally,
        afterPage,
        cursors.get(member.id),
        named?.get(member.id),
      );
    const reading = await (connector.capabilities.heldWhole ? oneByOne(read) : read());
    run.readings.set(member.id, reading);
    if (reading.trouble) run.note([reading.trouble]);
  });
  for (const { id } of members) {
    const reading = run.readings.get(id);
    if (reading) await afterReading(run, id, reading, outside);
  }
}

async function afterReading(
  run: RunAtWork,
  member: MemberId,
  { isListed, deleted, unusable, stopping }: MemberReading,
  outside: OutsideRecords,
): Promise<void> {
  if (stopping !== undefined) throw new Halt('stopped by a check', stopping);
  for (const { reason } of unusable.slice(0, mostNoted))
    run.notes.push({
      member,
      code: 'record unusable',
      words: reason,
      advice: 'Correct it in its system; the others were read. Until then nothing new is created there.',
    });
  const { doubted, trouble } = await settleGone(
    run.installation,
    run.lease,
    member,
    run.connectors.get(member) as Connector,
    { deleted, isListed },
    outside,
    run.options.overGuards === true,
  );
  if (doubted !== undefined) run.shortListings.push({ member, says: doubted });
  if (trouble) run.note([trouble]);
}
