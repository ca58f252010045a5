import js from '@eslint/js';
import angular from 'angular-eslint';
import tseslint from 'typescript-eslint';

export default tseslint.config(
  { ignores: ['**/dist/**', '**/node_modules/**', '**/.angular/**', 'test-results/**', '.data/**'] },
  js.configs.recommended,
  ...tseslint.configs.strict,
  {
    files: ['core/**/*.ts', 'contracts/**/*.ts', 'connectors/**/*.ts', 'server/**/*.ts', 'standins/**/*.ts'],
    ignores: ['**/*.test.ts', '**/testing/**'],
    extends: [tseslint.configs.recommendedTypeCheckedOnly],
    languageOptions: { parserOptions: { projectService: true, tsconfigRootDir: import.meta.dirname } },
    rules: {
      '@typescript-eslint/require-await': 'off',
      // Values of unknown origin are looked at before they become text.
      '@typescript-eslint/no-base-to-string': 'off',
      '@typescript-eslint/restrict-template-expressions': 'off',
      '@typescript-eslint/no-unnecessary-type-assertion': 'off',
    },
  },
  {
    rules: {
      'no-undef': 'off',
      // A named function may be used above its definition: files read from the public face down.
      '@typescript-eslint/no-use-before-define': 'off',
      '@typescript-eslint/no-unused-vars': [
        'error',
        { argsIgnorePattern: '^_', varsIgnorePattern: '^_', ignoreRestSiblings: true },
      ],
      '@typescript-eslint/no-invalid-void-type': 'off',
      '@typescript-eslint/no-extraneous-class': 'off',
      '@typescript-eslint/no-dynamic-delete': 'off',
      'no-restricted-properties': [
        'error',
        { object: 'Math', property: 'random', message: 'Randomness is passed in.' },
      ],
    },
  },
  {
    files: ['core/src/**/*.ts'],
    ignores: ['**/*.test.ts', '**/testing/**'],
    rules: {
      'no-restricted-globals': ['error', 'process', 'setTimeout', 'fetch', 'window'],
      'no-restricted-syntax': [
        'error',
        {
          selector: "CallExpression[callee.object.name='Date'][callee.property.name='now']",
          message: 'Time is passed in.',
        },
      ],
    },
  },
  { files: ['server/src/systems/systems.ts'], rules: { 'no-restricted-properties': 'off' } },
  {
    // What the formatter cannot break: comments and texts.
    files: ['{core,contracts,connectors,server,web,standins,bench,e2e}/**/*.{ts,mjs}'],
    rules: {
      'max-len': ['error', { code: 120, ignoreRegExpLiterals: true, ignoreUrls: true, ignorePattern: '^import ' }],
    },
  },
  {
    files: ['web/src/**/*.ts'],
    extends: [...angular.configs.tsRecommended],
    processor: angular.processInlineTemplates,
    rules: { '@angular-eslint/prefer-on-push-component-change-detection': 'error' },
  },
  {
    files: ['web/src/**/*.html'],
    ignores: ['**/*.test.ts/**'],
    extends: [...angular.configs.templateRecommended, ...angular.configs.templateAccessibility],
    rules: {
      '@angular-eslint/template/no-any': 'error',
      'max-len': ['error', { code: 120, ignoreUrls: true }],
      // Angular Material is what the interface is made of.
      'no-restricted-syntax': [
        'error',
        { selector: 'Element[name="select"]', message: 'Use mat-select, or ak-choice-field.' },
        { selector: 'Element[name="details"]', message: 'Use mat-expansion-panel, or ak-fold.' },
        { selector: 'Element[name="meter"]', message: 'Use mat-progress-bar.' },
        {
          selector: ':matches(TextAttribute, BoundAttribute)[name="title"]',
          message: 'Use matTooltip, akWhole or ak-ago.',
        },
        {
          // The record grid, the groups of changes of a run and the list of keys are our own.
          selector:
            'Element[name="table"]:not(:has(TextAttribute[name="mat-table"]))' +
            ':not(:has(TextAttribute[name="class"][value=/^(grid|keys|plain changes)$/]))',
          message: 'Use mat-table, with the parts of tables/rows.',
        },
        {
          // File pickers aside: there is none in Material.
          selector:
            'Element[name=/^(input|textarea)$/]:not(:has(TextAttribute[name=/^mat(Input|Slider.*Thumb)$/]))' +
            ':not(:has(TextAttribute[name="type"][value="file"]))',
          message: 'Use matInput in a mat-form-field, or ak-text-field.',
        },
        {
          // The cells of the record grid are our own.
          selector:
            'Element[name="button"]:not(:has(TextAttribute[name=/^mat-/]))' +
            ':not(:has(TextAttribute[name="class"][value=/^cell/]))',
          message: 'Use a button of Material.',
        },
      ],
    },
  },
);
