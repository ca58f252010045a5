export {
  type Capabilities,
  type Clock,
  type Connector,
  type Page,
  SystemTrouble,
  type TroubleCode,
  type UnusableRecord,
  type WriteOutcome,
  type WriteRequest,
} from './connector.js';
export { AddressFilter, type AddressRules, parseNetwork } from './addressFilter.js';
export { certificateEnd } from './certificate.js';
export { FilesConnector } from './files/filesConnector.js';
export { exploreFolder, type FileFound, type List, previewFile, readList } from './files/exploreFiles.js';
export type { Group, GroupSource } from './groups/groupsConnector.js';
export { type CallBudget, type CallerDependencies } from './http/caller.js';
export { beginConsent, completeConsent, type ConsentedSystem, revokeConsent } from './http/consent.js';
export { fetchDocument, listUnits } from './http/exploreHttp.js';
export { filteredAgent } from './http/agent.js';
export { DeliveryRefused, Subscriptions, verifyDelivery } from './http/webhooks.js';
export { NotOpenApi, type OpenApiReading, type ProposedObject, readOpenApi } from './http/openApi.js';
export { HttpConnector } from './http/httpConnector.js';
export type { TokenKeeper } from './http/signIn.js';
export { GrantedTokens, type Tokens } from './http/tokens.js';
export { type EntitySetFound, listEntitySets, ODataConnector } from './odata/odataConnector.js';
export { type ConnectorDependencies, openConnector } from './open.js';
export { type Probe, type ProbeStep, probeSystem } from './probe.js';
export { listTables, previewQuery, type QueryPreview, type TableFound } from './sql/exploreDatabase.js';
export { SqlConnector, type SqlDependencies } from './sql/sqlConnector.js';
export { parseExactJson, stringifyExactJson } from './json/exactJson.js';
export type { Exchange, ExchangeListener } from './exchange.js';
