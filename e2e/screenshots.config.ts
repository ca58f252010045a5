import base from './playwright.config.js';

/** Takes the pictures in docs/screenshots from the demo data: `npm run screenshots`. */
export default { ...base, testDir: 'screenshots', globalSetup: './src/installation.ts', reporter: 'list' };
