import presets from 'jest-preset-angular/presets/index.js';

const packages = {
  core: 'core',
  contracts: 'contracts',
  connectors: 'connectors',
  server: 'server',
  standins: 'standins',
};

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
        jsc: {
          target: 'es2022',
          parser: { syntax: 'typescript', decorators: true },
          transform: { legacyDecorator: true },
          experimental: { keepImportAttributes: true },
        },
        module: { type: 'es6' },
      },
    ],
  },
  moduleNameMapper: {
    '^(\\.{1,2}/.*)\\.js$': '$1',
    '^@anchor-knot/core/testing$': '<rootDir>/core/src/testing/index.ts',
    ...Object.fromEntries(
      Object.keys(packages).map((one) => [`^@anchor-knot/${one}$`, `<rootDir>/${one}/src/index.ts`]),
    ),
  },
});

/** The interface is compiled by Angular, and runs in a document. */
const web = {
  ...presets.createEsmPreset({ tsconfig: '<rootDir>/web/tsconfig.test.json' }),
  displayName: 'web',
  rootDir: import.meta.dirname,
  roots: ['<rootDir>/web/src'],
  testEnvironment: 'jsdom',
  setupFilesAfterEnv: ['<rootDir>/web/src/testSetup.ts'],
  moduleNameMapper: Object.fromEntries(
    ['core', 'contracts'].map((one) => [`^@anchor-knot/${one}$`, `<rootDir>/${one}/dist/index.js`]),
  ),
};

export default {
  projects: [...Object.keys(packages).map(project), web],
  testTimeout: 60_000,
  maxWorkers: 2,
  testSequencer: './jestSequencer.mjs',
};
