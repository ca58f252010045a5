import type { DataSource } from 'typeorm';
import {
  type AddressFilter,
  certificateEnd,
  type Clock,
  type Connector,
  type ConnectorDependencies,
  type ExchangeListener,
  GrantedTokens,
  openConnector,
  type Probe,
  probeSystem,
  SystemTrouble,
} from '@anchor-knot/connectors';
import {
  type Credential,
  credentialSchema,
  type Pennant,
  type System,
  systemSchema,
  type SystemView,
} from '@anchor-knot/contracts';
import type { CompiledMember } from '@anchor-knot/core';
import type { SystemRow } from '../persistence/entities/entities.js';
import { callsToday } from '../persistence/tables/callBudget.js';
import { withoutSecret } from '../runs/strikeOut.js';
import {
  allSystems,
  changeSystem,
  noteHealth,
  deleteSystem,
  findSystem,
  saveSystem,
  takeSilentSystems,
  takeUnseenCertificates,
} from '../persistence/tables/systems.js';
import { systemClock } from '../worker/systemClock.js';
import { type KnotShare, PostgresCallBudget } from './callBudget.js';
import { Consents, noConsent } from './consents.js';
import { KnotGroups } from './knotGroups.js';
import type { SecretBox } from './secretBox.js';

export interface SystemSettings {
  readonly description: System;
  readonly pennant: Pennant;
  readonly note?: string;
  readonly environment?: SystemRow['environment'];
  readonly accessEndsOn?: SystemRow['accessEndsOn'];
}

/** Where a stand-in is now; a kind takes of it what it needs. */
export interface Place {
  readonly address: string;
  readonly database: { readonly host: string; readonly port: number };
  readonly folder: string;
  /** Of its pages for people. */
  readonly page: string;
}

/** A description at another place: also what is named with the whole address, such as where tokens are given. */
export function movedTo(description: System, { address, database, folder, page }: Place): System {
  if (description.kind === 'sql') return systemSchema.parse({ ...description, ...database, page });
  if (description.kind === 'files') return systemSchema.parse({ ...description, folder, page });
  if (description.kind === 'groups') return description;
  const before = new URL(description.address).origin;
  const moved = JSON.stringify(description).replaceAll(before, new URL(address).origin);
  return systemSchema.parse({ ...(JSON.parse(moved) as System), page });
}

/** What of the world systems may be in. */
export interface Reach {
  readonly addresses: AddressFilter;
  /** Folders, for systems that are folders of files. */
  readonly folders: readonly string[];
}

/** What is seen of an object: another text when it can have changed. */
export type Look = { readonly seen: string } | 'being written' | 'cannot be looked at';

/** The connected systems: descriptions, secrets, and connectors made from both. */
export class Systems {
  readonly #data: DataSource;
  readonly #secrets: SecretBox;
  readonly #reach: Reach;
  readonly #consents: Consents;
  readonly #groups: KnotGroups;
  /** Of runs; who tries a system signs in anew. */
  readonly #granted = new GrantedTokens();

  constructor(data: DataSource, secrets: SecretBox, reach: Reach) {
    this.#data = data;
    this.#secrets = secrets;
    this.#reach = reach;
    this.#consents = new Consents(data, secrets);
    this.#groups = new KnotGroups(data);
  }

  /** Where systems may be. */
  get addresses(): AddressFilter {
    return this.#reach.addresses;
  }

  async all(): Promise<SystemRow[]> {
    return allSystems(this.#data);
  }

  async find(id: string): Promise<SystemRow | undefined> {
    return findSystem(this.#data, id);
  }

  /** Connects a system, or gives one that is connected new settings. A credential that is not given stays as it is. */
  async save({
    id,
    credential,
    ...settings
  }: SystemSettings & { id: string; credential?: Credential | undefined }): Promise<void> {
    await saveSystem(this.#data, {
      id,
      name: settings.description.name,
      description: settings.description,
      pennant: settings.pennant,
      note: settings.note ?? '',
      environment: settings.environment ?? 'production',
      accessEndsOn: settings.accessEndsOn ?? null,
      ...(credential ? this.#sealed(id, credential) : {}),
    });
  }

  /** Connects a new system under an id made from its name. @returns the id */
  async connectNew(settings: SystemSettings & { credential?: Credential | undefined }): Promise<string> {
    const base =
      settings.description.name
        .normalize('NFKD')
        .toLowerCase()
        .replaceAll(/[^a-z0-9]+/g, '-')
        .replaceAll(/^-|-$/g, '')
        .slice(0, 40) || 'system';
    const taken = new Set((await this.all()).map(({ id }) => id));
    let id = base;
    for (let number = 2; taken.has(id); number += 1) id = `${base}-${number}`;
    await this.save({ id, ...settings });
    return id;
  }

  /**
   * Gives a system new settings; the kept credential stays unless another is given.
   * @returns `changed meanwhile` when somebody changed it since that revision; `secret needed` when the system is at
   *   another
   * place now: a secret that was typed for one place is never sent to another
   */
  async change(
    before: SystemRow,
    revision: number,
    settings: SystemSettings & { credential?: Credential | undefined },
  ): Promise<'changed' | 'changed meanwhile' | 'secret needed'> {
    const { description, pennant, note, environment, accessEndsOn, credential } = settings;
    if (before.credential && !credential && placeOf(before.description) !== placeOf(description))
      return 'secret needed';
    const isChanged = await changeSystem(
      this.#data,
      before.id,
      {
        name: description.name,
        description,
        pennant,
        note: note ?? '',
        environment: environment ?? 'production',
        accessEndsOn: accessEndsOn ?? null,
        // Another place has another one: it is looked at again.
        ...(placeOf(before.description) === placeOf(description)
          ? {}
          : { certificateEndsAt: null, certificateSeenAt: null }),
        revision: revision + 1,
        // A consent was given for one sign-in at one place.
        ...(isSameSignIn(before.description, description) ? {} : noConsent),
        ...(credential ? this.#sealed(before.id, credential) : {}),
      },
      revision,
    );
    return isChanged ? 'changed' : 'changed meanwhile';
  }

  /** A stand-in of the demo listens at another port after a restart; everything else stays as it was left. */
  async moveTo(row: SystemRow, place: Place, credential: Credential | undefined): Promise<void> {
    const description = movedTo(row.description, place);
    const sealed = credential ? this.#sealed(row.id, credential) : {};
    await changeSystem(this.#data, row.id, { description, ...sealed });
  }

  /** The only way a secret gets in; there is none out, but to the system itself. */
  async replaceCredential(id: string, credential: Credential): Promise<void> {
    const before = await this.find(id);
    const forgotten = before?.credentialId === credential.id ? {} : noConsent;
    await changeSystem(this.#data, id, { ...this.#sealed(id, credential), ...forgotten });
  }

  /** Forgets the secret of a system and what was had by it. A run that is under way has it until its end. */
  async withdrawCredential(id: string): Promise<void> {
    await changeSystem(this.#data, id, { credential: null, credentialId: null, ...noConsent });
  }

  async remove(id: string): Promise<void> {
    await deleteSystem(this.#data, id);
  }

  /** What connectors need, with the credential kept for a system, its consent, and its share of calls. */
  dependencies(row: SystemRow, clock: Clock = systemClock, share?: KnotShare): ConnectorDependencies {
    return this.#with(this.credential(row), clock, row, share);
  }

  /**
   * The same for a description that is only being tried. What is kept for a system serves if it goes to the same place.
   * Calls that are tried are counted too, where the system is connected already.
   */
  dependenciesToTry(
    description: System,
    row: SystemRow | undefined,
    typed: Credential | undefined,
  ): ConnectorDependencies {
    const kept = row && placeOf(row.description) === placeOf(description) ? row : undefined;
    return this.#with(typed ?? (kept && this.credential(kept)), systemClock, kept);
  }

  #with(
    credential: Credential | undefined,
    clock: Clock,
    row: SystemRow | undefined,
    share?: KnotShare,
  ): ConnectorDependencies {
    const called =
      row && (row.description.kind === 'http' || row.description.kind === 'odata') ? row.description : undefined;
    return {
      clock,
      random: Math.random,
      credential,
      ...(row && called
        ? {
            tokens: this.#consents.keeper(row.id),
            budget: new PostgresCallBudget(this.#data, row, called.budget ?? {}, clock, share),
          }
        : {}),
      ...this.#reach,
      folder: process.cwd(),
      groups: this.#groups,
    };
  }

  /**
   * A connector for one member's object.
   * @param onExchange is told of its calls, without the system's secret
   * @param share of the knot that it is for
   * @throws {SystemTrouble} when there is no such system or object
   */
  async connect(
    member: Pick<CompiledMember, 'system' | 'object'>,
    clock: Clock,
    onExchange?: ExchangeListener,
    share?: KnotShare,
  ): Promise<Connector> {
    const row = await this.find(member.system);
    if (!row)
      throw new SystemTrouble(
        'object is gone',
        `there is no system “${member.system}”`,
        'Connect it, or choose another system for this member.',
      );
    const dependencies = this.dependencies(row, clock, share);
    const told = onExchange && withSecretStruck(onExchange, dependencies.credential?.secret);
    return openConnector(systemSchema.parse(row.description), member.object, {
      ...dependencies,
      granted: this.#granted,
      onExchange: told,
    });
  }

  /**
   * What can be seen of an object without reading it, where that costs little. A system in trouble is seen as what is
   * wrong with it.
   */
  async look(member: Pick<CompiledMember, 'system' | 'object'>): Promise<Look> {
    const row = await this.find(member.system);
    if (row?.description.kind !== 'files' && row?.description.kind !== 'groups') return 'cannot be looked at';
    try {
      const connector = await this.connect(member, systemClock);
      if (!connector.look) return 'cannot be looked at';
      const seen = await connector.look();
      return seen === undefined ? 'being written' : { seen };
    } catch (error) {
      if (error instanceof SystemTrouble) return { seen: error.message };
      throw error;
    }
  }

  /** How many calls a system had today, and what it bears; `null` for what is not called over HTTP. */
  async calls({ id, description }: SystemRow): Promise<SystemView['calls']> {
    if (description.kind !== 'http' && description.kind !== 'odata') return null;
    const { today, rest } = await callsToday(this.#data, id);
    const { perDay, perSecond, atOnce } = description.budget ?? {};
    return {
      today,
      perDay: perDay ?? null,
      perSecond: perSecond ?? null,
      atOnce: atOnce ?? null,
      restUntil: rest?.toISOString() ?? null,
    };
  }

  /** Tries a connected system, and keeps how it went for everybody to see. */
  async probe(row: SystemRow): Promise<Probe> {
    const probe = await probeSystem(systemSchema.parse(row.description), this.dependencies(row));
    const now = new Date();
    await changeSystem(this.#data, row.id, {
      probe: { ...probe, steps: [...probe.steps] },
      probedAt: now,
      trouble: troubleIn(probe.steps),
      checkedAt: now,
    });
    return probe;
  }

  /**
   * Looks whether systems of which nothing was heard lately are well: reaches each, signs in, reads one page. Of
   * several
   * workers one does it.
   */
  async watch(silentMinutes: number): Promise<void> {
    for (const id of await takeSilentSystems(this.#data, silentMinutes)) {
      const row = await this.find(id);
      const [first] = Object.entries(row?.description.objects ?? {});
      if (!row || !first) continue;
      const { rows: _, ...description } = { rows: undefined, ...row.description };
      const one = systemSchema.parse({ ...description, objects: Object.fromEntries([first]) });
      const { steps } = await probeSystem(one, this.dependencies(row));
      await changeSystem(this.#data, id, { trouble: troubleIn(steps), checkedAt: new Date() });
    }
  }

  /** Looks when the certificates of systems end; of one that does not answer what was seen last is kept. */
  async lookAtCertificates(hours: number): Promise<void> {
    for (const id of await takeUnseenCertificates(this.#data, hours)) {
      const row = await this.find(id);
      if (!row) continue;
      const end = await certificateEnd(row.description, this.#reach.addresses).catch(() => undefined);
      if (end !== undefined) await changeSystem(this.#data, id, { certificateEndsAt: new Date(end) });
    }
  }

  /** Keeps how each system did in the last run, for everybody to see. */
  async recordHealth(troubles: ReadonlyMap<string, SystemRow['trouble']>): Promise<void> {
    await noteHealth(this.#data, troubles);
  }

  #sealed(id: string, credential: Credential): Pick<SystemRow, 'credential' | 'credentialId'> {
    return { credential: this.#secrets.seal(JSON.stringify(credential), id), credentialId: credential.id };
  }

  credential(row: SystemRow): Credential | undefined {
    return row.credential ? credentialSchema.parse(JSON.parse(this.#secrets.open(row.credential, row.id))) : undefined;
  }
}

function troubleIn(steps: Probe['steps']): SystemRow['trouble'] {
  const failed = steps.find(({ state }) => state === 'failed');
  return failed ? { code: failed.code ?? 'cannot be read', words: failed.says, advice: failed.advice ?? '' } : null;
}

function isSameSignIn(one: System, other: System): boolean {
  const signInOf = (system: System): string =>
    system.kind === 'http' || system.kind === 'odata' ? JSON.stringify(system.signIn) : '';
  return placeOf(one) === placeOf(other) && signInOf(one) === signInOf(other);
}

/** Where a system's secret goes, and whether the way there is encrypted. */
function placeOf(description: System): string {
  switch (description.kind) {
    case 'http':
    case 'odata': {
      const { address, signIn } = description;
      // With a consent, id and secret go to where the tokens are given.
      const all =
        signIn.kind === 'authorization code'
          ? [address, signIn.tokenUrl, ...(signIn.revocationUrl ? [signIn.revocationUrl] : [])]
          : [address];
      return [...new Set(all.map((one) => new URL(one).origin))].join(' ');
    }
    case 'sql':
      return `${description.host}:${description.port} ${description.tls}`;
    case 'files':
      return 'this machine';
    case 'groups':
      return 'this installation';
    default:
      throw new Error(`unknown kind of system ${JSON.stringify(description satisfies never)}`);
  }
}

function withSecretStruck(listener: ExchangeListener, secret: string | undefined): ExchangeListener {
  const struck = (text: string | undefined): string | undefined => text && withoutSecret(text, secret);
  return (exchange) =>
    listener({
      ...exchange,
      target: withoutSecret(exchange.target, secret),
      sent: struck(exchange.sent),
      received: struck(exchange.received),
      trouble: struck(exchange.trouble),
    });
}
