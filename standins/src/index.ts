export { type Account, segments } from './crm/account.js';
export { type CrmOptions, crmServer } from './crm/server.js';
export { type CustomerData, type CustomerOptions, demoCustomers, generateCustomers } from './generator/customers.js';
export { type Faults, noFaults, seededRandom } from './kit/faults.js';
export { type ShopOptions, shopServer } from './shop/server.js';
export type { Shopper } from './shop/shopper.js';
