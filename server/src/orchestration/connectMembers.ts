import type { CompiledMember, MemberId } from '@anchor-knot/core';
import { type Connector, SystemTrouble } from '@anchor-knot/connectors';
import type { CallLog } from './callLog.js';
import type { Installation } from './installation.js';
import type { MemberTrouble } from './runResult.js';

export interface Connected {
  readonly connectors: Map<MemberId, Connector>;
  readonly troubles: readonly MemberTrouble[];
}

/** Connects to members, with their calls counted. A system that cannot be reached keeps none of the others back. */
export async function connectMembers(
  installation: Installation,
  members: readonly CompiledMember[],
  calls: CallLog,
): Promise<Connected> {
  const connectors = new Map<MemberId, Connector>();
  const troubles: MemberTrouble[] = [];
  for (const member of members) {
    try {
      connectors.set(member.id, calls.measured(member.id, await installation.connect(member)));
    } catch (error) {
      if (!(error instanceof SystemTrouble)) throw error;
      troubles.push({ member: member.id, code: error.code, words: error.message, advice: error.advice });
    }
  }
  return { connectors, troubles };
}

export async function closeAll(connectors: ReadonlyMap<MemberId, Connector>): Promise<void> {
  await Promise.allSettled([...connectors.values()].map((connector) => connector.close()));
}
