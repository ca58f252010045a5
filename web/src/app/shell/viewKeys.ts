/** The views, by the letter that is pressed after `g` to go there. */
export const viewKeys: readonly { readonly key: string; readonly path: string; readonly name: string }[] = [
  { key: 'w', path: '/watch', name: 'Watch' },
  { key: 'd', path: '/decisions', name: 'Decisions' },
  { key: 'p', path: '/repair', name: 'Repair' },
  { key: 'k', path: '/knots', name: 'Knots' },
  { key: 'a', path: '/anchors', name: 'Anchors' },
  { key: 's', path: '/systems', name: 'Systems' },
  { key: 'r', path: '/runs', name: 'Runs' },
  { key: 'n', path: '/notices', name: 'Notices' },
  { key: 't', path: '/tables', name: 'Tables' },
];
