import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import type { Pool } from 'pg';
import { sqlSystemSchema } from '@anchor-knot/contracts';
import { type Business, erpRole, openErpDatabase } from '@anchor-knot/standins';
import type { RealInstallation } from './realInstallation.js';
import type { TestDatabase } from './testDatabase.js';

const systems = join(import.meta.dirname, '../../demo/systems.json');
const secret = 'erp-secret';

/** The ERP's own database on a cluster of its own, as one of an installation's systems. */
export class RealErp {
  private constructor(
    readonly pool: Pool,
    readonly address: URL,
  ) {}

  /** The database is made once for each cluster, and kept as tests leave it. */
  static async open(cluster: TestDatabase, business: Business): Promise<RealErp> {
    const { url } = await cluster.fresh();
    return new RealErp(await openErpDatabase(url, secret, () => business), new URL(url));
  }

  async connectTo({ parts }: RealInstallation): Promise<void> {
    const { coldharbour } = JSON.parse(readFileSync(systems, 'utf8')) as { coldharbour: object };
    const { hostname: host, port } = this.address;
    await parts.systems.save({
      id: 'coldharbour',
      description: sqlSystemSchema.parse({ ...coldharbour, host, port: Number(port), database: 'coldharbour' }),
      pennant: { pattern: 'chevron', colour: 'ink', letters: 'CE' },
      credential: { id: erpRole, secret },
    });
  }

  async close(): Promise<void> {
    await this.pool.end();
  }
}
