import { rowsAs, type System } from '@anchor-knot/contracts';
import type { CallerDependencies } from './http/caller.js';
import type { Connector } from './connector.js';
import type { FolderDependencies } from './files/folder.js';
import { FilesConnector } from './files/filesConnector.js';
import { GroupsConnector, type GroupSource } from './groups/groupsConnector.js';
import { HttpConnector } from './http/httpConnector.js';
import { ODataConnector } from './odata/odataConnector.js';
import { RowsConnector } from './rows/rowsConnector.js';
import { SqlConnector } from './sql/sqlConnector.js';

export interface ConnectorDependencies extends CallerDependencies, FolderDependencies {
  /** Where what this installation knows itself is counted; none on the command line. */
  readonly groups?: GroupSource | undefined;
}

/** The connector for an object of a system, whatever kind it is. @throws {SystemTrouble} when it has no such object */
export function openConnector(system: System, object: string, dependencies: ConnectorDependencies): Connector {
  const rows = rowsAs(system, object);
  if (rows) return new RowsConnector(openConnector(system, rows.of, dependencies), rows);
  switch (system.kind) {
    case 'http':
      return new HttpConnector(system, object, dependencies);
    case 'odata':
      return new ODataConnector(system, object, dependencies);
    case 'files':
      return new FilesConnector(system, object, dependencies);
    case 'sql':
      return new SqlConnector(system, object, dependencies);
    case 'groups':
      return new GroupsConnector(system, object, dependencies.groups);
    default:
      throw new Error(`unknown kind of system ${JSON.stringify(system satisfies never)}`);
  }
}
