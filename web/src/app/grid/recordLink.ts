import { type MemberSummary, recordAddress } from '@anchor-knot/contracts';

/** The address of a record's page in its own system; `null` where the system has no such pages. */
export function recordLink(member: Pick<MemberSummary, 'recordPage'> | undefined, key: string | null): string | null {
  return member && key !== null ? recordAddress(member.recordPage, key) : null;
}
