import { readFileSync } from 'node:fs';
import { computed, signal } from '@angular/core';
import {
  type KnotDefinition,
  knotDraftSchema,
  knotFileSchema,
  type MemberSummary,
  type Reading,
  type SystemSummary,
} from '@anchor-knot/contracts';
import type { Edit } from '@anchor-knot/core';

/** The demo's knot between four systems. */
export const customers: KnotDefinition = knotDraftSchema.parse(
  knotFileSchema.parse(JSON.parse(readFileSync('server/demo/customers.knot.json', 'utf8'))).knot,
);

const names: Readonly<Record<string, string>> = {
  crm: 'Fernhill CRM',
  shop: 'Market Row',
  erp: 'Coldharbour ERP',
  granary: 'Granary',
};
const pennant = { pattern: 'halves', colour: 'petrol', letters: 'FC' } as const;

export const memberNamed = (id: string, system = id): MemberSummary => ({
  id,
  system,
  systemName: names[id] ?? id,
  object: 'things',
  pennant,
  recordPage: null,
  listPage: null,
});

/** An editor that only holds the definition: edits change it, and nothing is sent anywhere. */
export function fakeEditor(from: KnotDefinition = customers, may = true) {
  const definition = signal(from);
  const reading = signal<Reading | undefined>(undefined);
  return {
    definition,
    reading,
    readingState: signal('read' as const),
    mayEdit: () => may,
    members: computed(() => definition().members.map(({ id, system }) => memberNamed(id, system))),
    systems: signal<readonly SystemSummary[]>([]),
    findings: signal([]),
    proposals: signal([]),
    trial: signal(undefined),
    edit: (change: Edit) => definition.set(change(definition())),
    titlePath: () => undefined,
    readWhenSaved: () => undefined,
  };
}
