import type { DataSource } from 'typeorm';
import { type AddressFilter, type Clock, type Connector, type ConnectorDependencies, openConnector, type Probe, probeSystem, SystemTrouble } from '@anchor-knot/connectors';
import { type Credential, credentialSchema, type Pennant, type System, systemSchema } from '@anchor-knot/contracts';
import type { CompiledMember } from '@anchor-knot/core';
import { SystemEntity, type SystemRow } from '../persistence/entities/entities.js';
import { systemClock } from '../worker/systemClock.js';
import type { SecretBox } from './secretBox.js';

export interface SystemSettings {
  readonly description: System;
  readonly pennant: Pennant;
  readonly note?: string;
  readonly environment?: SystemRow['environment'];
  readonly pageAddress?: string | null;
}

/** The connected systems: descriptions, secrets, and connectors made from both. */
export class Systems {
  readonly #data: DataSource;
  readonly #secrets: SecretBox;
  readonly #addresses: AddressFilter;

  constructor(data: DataSource, secrets: SecretBox, addresses: AddressFilter) {
    this.#data = data;
    this.#secrets = secrets;
    this.#addresses = addresses;
  }

  async all(): Promise<SystemRow[]> {
    return this.#data.getRepository(SystemEntity).find({ order: { id: 'asc' } });
  }

  async find(id: string): Promise<SystemRow | undefined> {
    return (await this.#data.getRepository(SystemEntity).findOneBy({ id })) ?? undefined;
  }

  /** Connects a system, or gives one that is connected new settings. A credential that is not given stays as it is. */
  async save({ id, credential, ...settings }: SystemSettings & { id: string; credential?: Credential | undefined }): Promise<void> {
    await this.#data.getRepository(SystemEntity).save({
      id,
      name: settings.description.name,
      description: settings.description,
      pennant: settings.pennant,
      pageAddress: settings.pageAddress ?? null,
      note: settings.note ?? '',
      environment: settings.environment ?? 'production',
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
   * @returns `changed meanwhile` when somebody changed it since that revision; `secret needed` when the system is at another
   * place now: a secret that was typed for one place is never sent to another
   */
  async change(
    before: SystemRow,
    revision: number,
    settings: SystemSettings & { credential?: Credential | undefined },
  ): Promise<'changed' | 'changed meanwhile' | 'secret needed'> {
    const { description, pennant, note, environment, credential } = settings;
    if (before.credential && !credential && placeOf(before.description) !== placeOf(description)) return 'secret needed';
    const { affected } = await this.#data.getRepository(SystemEntity).update(
      { id: before.id, revision },
      {
        name: description.name,
        description: description as never,
        pennant,
        note: note ?? '',
        environment: environment ?? 'production',
        revision: revision + 1,
        ...(credential ? this.#sealed(before.id, credential) : {}),
      },
    );
    return (affected ?? 0) > 0 ? 'changed' : 'changed meanwhile';
  }

  /** A stand-in of the demo listens at another port after a restart; everything else stays as it was left. */
  async moveTo(row: SystemRow, place: { address: string } | { host: string; port: number }, pageAddress: string, credential: Credential): Promise<void> {
    const description = systemSchema.parse({ ...row.description, ...place });
    await this.#data.getRepository(SystemEntity).update({ id: row.id }, { description: description as never, pageAddress, ...this.#sealed(row.id, credential) });
  }

  /** The only way a secret gets in; there is none out, but to the system itself. */
  async replaceCredential(id: string, credential: Credential): Promise<void> {
    await this.#data.getRepository(SystemEntity).update({ id }, this.#sealed(id, credential));
  }

  async remove(id: string): Promise<void> {
    await this.#data.getRepository(SystemEntity).delete({ id });
  }

  /** What connectors need, with the credential kept for a system. */
  dependencies(row: SystemRow | undefined, clock: Clock = systemClock): ConnectorDependencies {
    return this.#with(row && this.#credential(row), clock);
  }

  /** The same for a description that is only being tried. The credential kept for a system serves if it goes to the same place. */
  dependenciesToTry(description: System, row: SystemRow | undefined, typed: Credential | undefined): ConnectorDependencies {
    return this.#with(typed ?? (row && placeOf(row.description) === placeOf(description) ? this.#credential(row) : undefined), systemClock);
  }

  #with(credential: Credential | undefined, clock: Clock): ConnectorDependencies {
    return { clock, random: Math.random, credential, addresses: this.#addresses, folder: process.cwd() };
  }

  /** A connector for one member's object. @throws {SystemTrouble} when there is no such system or object */
  async connect(member: Pick<CompiledMember, 'system' | 'object'>, clock: Clock): Promise<Connector> {
    const row = await this.find(member.system);
    if (!row) throw new SystemTrouble('object is gone', `there is no system “${member.system}”`, 'Connect it, or choose another system for this member.');
    return openConnector(systemSchema.parse(row.description), member.object, this.dependencies(row, clock));
  }

  /** Tries a connected system, and keeps how it went for everybody to see. */
  async probe(row: SystemRow): Promise<Probe> {
    const probe = await probeSystem(systemSchema.parse(row.description), this.dependencies(row));
    const failed = probe.steps.find(({ state }) => state === 'failed');
    const trouble = failed ? { code: failed.code ?? 'cannot be read', words: failed.says, advice: failed.advice ?? '' } : null;
    await this.#data.getRepository(SystemEntity).update({ id: row.id }, { probe: probe as never, probedAt: new Date(), trouble: trouble as never, checkedAt: new Date() });
    return probe;
  }

  /** Keeps how each system did in the last run, for everybody to see. */
  async recordHealth(troubles: ReadonlyMap<string, SystemRow['trouble']>): Promise<void> {
    for (const [id, trouble] of troubles) await this.#data.getRepository(SystemEntity).update({ id }, { trouble: trouble as never, checkedAt: new Date() });
  }

  /** Encrypts every kept secret anew, under another key. @returns how many there are */
  async moveSecrets(to: SecretBox): Promise<number> {
    return this.#data.transaction(async (db) => {
      const rows = (await db.query('select id, credential from system where credential is not null for update')) as { id: string; credential: Buffer }[];
      for (const { id, credential } of rows) await db.query('update system set credential = $2 where id = $1', [id, to.seal(this.#secrets.open(credential, id), id)]);
      return rows.length;
    });
  }

  #sealed(id: string, credential: Credential): Pick<SystemRow, 'credential' | 'credentialId'> {
    return { credential: this.#secrets.seal(JSON.stringify(credential), id), credentialId: credential.id };
  }

  #credential(row: SystemRow): Credential | undefined {
    return row.credential ? credentialSchema.parse(JSON.parse(this.#secrets.open(row.credential, row.id))) : undefined;
  }
}

/** Where a system's secret goes, and whether the way there is encrypted. */
function placeOf(description: System): string {
  switch (description.kind) {
    case 'http':
      return new URL(description.address).origin;
    case 'sql':
      return `${description.host}:${description.port} ${description.tls}`;
    case 'files':
      return 'this machine';
    default:
      throw new Error(`unknown kind of system ${JSON.stringify(description satisfies never)}`);
  }
}
