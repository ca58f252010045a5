const packages = { core: 'core', contracts: 'contracts', connectors: 'connectors', server: 'server', standins: 'standins' };

/** One project per package: sources are taken as they are, so a test never runs an old build. */
const project = (name) => ({
  displayName: name,
  rootDir: import.meta.dirname,
  roots: [`<rootDir>/${name}/src`],
  testEnvironment: 'node',
  extensionsToTreatAsEsm: ['.ts'],
  transform: {
    '^.+\\.ts$': [
      '@swc/jest',
      {
        jsc: { target: 'es2022', parser: { syntax: 'typescript', decorators: true }, transform: { legacyDecorator: true }, experimental: { keepImportAttributes: true } },
        module: { type: 'es6' },
      },
    ],
  },
  moduleNameMapper: {
    '^(\\.{1,2}/.*)\\.js$': '$1',
    ...Object.fromEntries(Object.keys(packages).map((one) => [`^@anchor-knot/${one}$`, `<rootDir>/${one}/src/index.ts`])),
  },
});

export default { projects: [...Object.keys(packages), 'web'].map(project), testTimeout: 60_000, maxWorkers: 2 };
