export { type Capabilities, type Clock, type Connector, type Page, SystemTrouble, type TroubleCode, type WriteOutcome, type WriteRequest } from './connector.js';
export { FilesConnector } from './files/filesConnector.js';
export { type CallerDependencies } from './http/caller.js';
export { HttpConnector } from './http/httpConnector.js';
export { parseExactJson, stringifyExactJson } from './json/exactJson.js';
