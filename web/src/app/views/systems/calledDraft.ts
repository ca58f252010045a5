import type { HttpSystem, ODataSystem, SystemSignIn } from '@anchor-knot/contracts';
import { given, milliseconds, number } from './typedValues';

/** How a system is called and signed in to, as a person types it. */
export interface CalledDraft {
  readonly address: string;
  readonly signIn: SystemSignIn['kind'];
  readonly header: string;
  readonly tokenPath: string;
  readonly scope: string;
  readonly authorizationUrl: string;
  readonly tokenUrl: string;
  readonly revocationUrl: string;
  readonly issuer: string;
  readonly perSecond: string;
  readonly perDay: string;
  readonly atOnce: string;
  readonly seconds: string;
}

/** What systems that are called over HTTP have in common. */
export function calledSystem(draft: CalledDraft): object {
  const budget = {
    ...(draft.perSecond.trim() === '' ? {} : { perSecond: number(draft.perSecond) }),
    ...(draft.perDay.trim() === '' ? {} : { perDay: number(draft.perDay) }),
    ...(draft.atOnce.trim() === '' ? {} : { atOnce: number(draft.atOnce) }),
  };
  return {
    address: draft.address.trim().replace(/\/+$/, ''),
    signIn: signInOf(draft),
    timeoutMs: milliseconds(draft.seconds),
    ...(Object.keys(budget).length > 0 ? { budget } : {}),
  };
}

function signInOf(draft: CalledDraft): object {
  switch (draft.signIn) {
    case 'authorization code':
      return {
        kind: draft.signIn,
        authorizationUrl: draft.authorizationUrl.trim(),
        tokenUrl: draft.tokenUrl.trim(),
        ...given('revocationUrl', draft.revocationUrl),
        ...given('issuer', draft.issuer),
        ...given('scope', draft.scope),
      };
    case 'client credentials':
      return { kind: draft.signIn, tokenPath: draft.tokenPath.trim(), ...given('scope', draft.scope) };
    case 'header key':
      return { kind: draft.signIn, header: draft.header.trim() };
    default:
      return { kind: draft.signIn };
  }
}

/** What a person sees of them. */
export function calledDraft({ address, signIn, timeoutMs, budget }: HttpSystem | ODataSystem): Partial<CalledDraft> {
  const text = (value: number | undefined): string => (value === undefined ? '' : String(value));
  return {
    address,
    signIn: signIn.kind,
    ...(signIn.kind === 'client credentials' ? { tokenPath: signIn.tokenPath, scope: signIn.scope ?? '' } : {}),
    ...(signIn.kind === 'header key' ? { header: signIn.header } : {}),
    ...(signIn.kind === 'authorization code'
      ? {
          authorizationUrl: signIn.authorizationUrl,
          tokenUrl: signIn.tokenUrl,
          revocationUrl: signIn.revocationUrl ?? '',
          issuer: signIn.issuer ?? '',
          scope: signIn.scope ?? '',
        }
      : {}),
    seconds: String(timeoutMs / 1000),
    perSecond: text(budget?.perSecond),
    perDay: text(budget?.perDay),
    atOnce: text(budget?.atOnce),
  };
}
