import type { DataSource } from 'typeorm';
import { type Clock, type Connector, FilesConnector, HttpConnector, SystemTrouble } from '@anchor-knot/connectors';
import { credentialSchema, type Pennant, systemSchema, type System } from '@anchor-knot/contracts';
import type { CompiledMember } from '@anchor-knot/core';
import { SystemEntity, type SystemRow } from '../persistence/entities/entities.js';
import type { SecretBox } from './secretBox.js';

/** The connected systems: descriptions, secrets, and connectors made from both. */
export class Systems {
  readonly #data: DataSource;
  readonly #secrets: SecretBox;

  constructor(data: DataSource, secrets: SecretBox) {
    this.#data = data;
    this.#secrets = secrets;
  }

  async all(): Promise<SystemRow[]> {
    return this.#data.getRepository(SystemEntity).find({ order: { id: 'asc' } });
  }

  async save(system: { id: string; description: System; pennant: Pennant; pageAddress?: string | null; credential?: { id: string; secret: string } }): Promise<void> {
    const sealed = system.credential ? this.#secrets.seal(JSON.stringify(system.credential), system.id) : undefined;
    await this.#data.getRepository(SystemEntity).save({
      id: system.id,
      name: system.description.name,
      description: system.description,
      pennant: system.pennant,
      pageAddress: system.pageAddress ?? null,
      ...(sealed ? { credential: sealed } : {}),
    });
  }

  /** A connector for one member's object. @throws {SystemTrouble} when there is no such system or object */
  async connect(member: CompiledMember, clock: Clock): Promise<Connector> {
    const row = await this.#data.getRepository(SystemEntity).findOneBy({ id: member.system });
    if (!row) throw new SystemTrouble('object is gone', `there is no system “${member.system}”`, 'Connect it, or choose another system for this member.');
    const description = systemSchema.parse(row.description);
    if (description.kind === 'files') return new FilesConnector(description, member.object, process.cwd());
    const credential = row.credential ? credentialSchema.parse(JSON.parse(this.#secrets.open(row.credential, row.id))) : undefined;
    return new HttpConnector(description, member.object, { clock, random: Math.random, credential });
  }

  /** Keeps how each system did in the last run, for everybody to see. */
  async recordHealth(troubles: ReadonlyMap<string, SystemRow['trouble']>): Promise<void> {
    for (const [id, trouble] of troubles) await this.#data.getRepository(SystemEntity).update({ id }, { trouble: trouble as never, checkedAt: new Date() });
  }
}
