import type { KnotList, SystemSummary } from '@anchor-knot/contracts';
import { viewKeys } from './viewKeys';

/** Something with a name and an address of its own. */
export interface Place {
  readonly name: string;
  readonly kind: string;
  readonly path: string;
}

const mostShown = 14;
const sectionsOfKnots = ['Members', 'Identity', 'Fields', 'Rules', 'Crosswalks', 'Checks', 'Timing', 'History'];

/** All places but the anchors, which are many and searched by the server. */
export function placesOf(knots: KnotList['knots'], systems: readonly SystemSummary[]): readonly Place[] {
  return [
    ...viewKeys.map(({ name, path }) => ({ name, kind: 'view', path })),
    ...knots.map(({ id, name, version }) => ({
      name,
      kind: version === 0 ? 'knot, not in force yet' : 'knot',
      path: `/knots/${id}/fields`,
    })),
    ...systems.map(({ id, name }) => ({ name, kind: 'system', path: `/systems/${id}` })),
    ...systems.flatMap(({ id, name, objects }) =>
      objects.map((object) => ({
        name: object,
        kind: `object of ${name}`,
        path: `/systems/${id}/objects/${encodeURIComponent(object)}/fields`,
      })),
    ),
    ...knots.flatMap(({ id, name }) =>
      sectionsOfKnots.map((section) => ({
        name: `${name}: ${section}`,
        kind: 'section',
        path: `/knots/${id}/${section.toLowerCase()}`,
      })),
    ),
    { name: 'Who is told of what', kind: 'section', path: '/notices/told' },
    { name: 'Mails about records', kind: 'section', path: '/notices/records' },
    { name: 'Messages that were sent', kind: 'section', path: '/notices/sent' },
    { name: 'Connect a system', kind: 'action', path: '/systems/connect' },
    { name: 'New knot', kind: 'action', path: '/knots/new' },
  ];
}

/** Those that all words of a text are found in; what begins with it comes first. */
export function placesCalled(places: readonly Place[], text: string): readonly Place[] {
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const found = places.filter(({ name, kind }) =>
    words.every((word) => `${name} ${kind}`.toLowerCase().includes(word)),
  );
  const begins = ({ name }: Place): boolean => name.toLowerCase().startsWith(text.toLowerCase());
  return [...found.filter(begins), ...found.filter((place) => !begins(place))].slice(0, mostShown);
}
