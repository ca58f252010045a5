/** Each folder is a floor that may import only from the floors below it. Tests may also use the stand-ins. */
const floor = (name, below) => ({
  name: `${name}-imports-only-from-below`,
  severity: 'error',
  from: { path: `^${name}/src`, pathNot: '(\\.test\\.ts$|/testing/)' },
  to: {
    path: '^(core|contracts|connectors|server|web|standins|e2e|bench)/',
    pathNot: `^(${[name, ...below].join('|')})/`,
  },
});

/** The parts of the core, each importing only from those before it. */
const partsOfCore = [
  'record',
  'expression',
  'mapping',
  'definition',
  'assignment',
  'identity',
  'merge',
  'plan',
  'schedule',
  'schema',
  'proposal',
  'trying',
];
const partOfCore = (name, index) => ({
  name: `core-${name}-imports-only-from-before`,
  severity: 'error',
  from: { path: `^core/src/${name}/`, pathNot: '\\.test\\.ts$' },
  to: { path: '^core/src/', pathNot: `^core/src/(${partsOfCore.slice(0, index + 1).join('|')})/` },
});

module.exports = {
  forbidden: [
    ...partsOfCore.map(partOfCore),
    floor('core', []),
    floor('contracts', ['core']),
    floor('connectors', ['core', 'contracts']),
    floor('server', ['core', 'contracts', 'connectors']),
    floor('web', ['core', 'contracts']),
    floor('standins', []),
    {
      name: 'persistence-knows-no-feature',
      severity: 'error',
      from: { path: '^server/src/persistence/', pathNot: '\\.test\\.ts$' },
      to: { path: '^server/src/', pathNot: '^server/src/(persistence/|orchestration/|anchors/door\\.ts)' },
    },
    {
      name: 'core-does-no-io',
      severity: 'error',
      from: { path: '^core/src', pathNot: '(\\.test\\.ts$|/testing/)' },
      to: { dependencyTypes: ['core'] },
    },
    {
      name: 'core-knows-no-framework',
      severity: 'error',
      from: { path: '^core/src' },
      to: { path: 'node_modules/(fastify|typeorm|@angular|pg|undici|zod)/' },
    },
    {
      name: 'no-circles',
      severity: 'error',
      from: { pathNot: 'node_modules' },
      to: { circular: true, viaOnly: { pathNot: 'index\\.ts$' } },
    },
    {
      name: 'no-orphans',
      severity: 'error',
      from: { orphan: true, path: '/src/', pathNot: '(\\.test\\.ts|main\\.ts|index\\.ts|\\.d\\.ts|Process\\.ts)$' },
      to: {},
    },
  ],
  options: {
    doNotFollow: { path: '(node_modules|/dist/)' },
    exclude: { path: '(^|/)\\.angular/' },
    tsPreCompilationDeps: true,
    tsConfig: { fileName: 'tsconfig.base.json' },
    enhancedResolveOptions: {
      exportsFields: ['exports'],
      conditionNames: ['import', 'require', 'node', 'default', 'types'],
    },
  },
};
