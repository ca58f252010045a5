import { bootstrapApplication } from '@angular/platform-browser';
import { z } from 'zod';
import { App } from './app/shell/app';
import { appConfig } from './app/shell/appConfig';

// Zod otherwise builds functions from text, which the Content Security Policy forbids.
z.config({ jitless: true });

bootstrapApplication(App, appConfig).catch((error: unknown) => console.error(error));
