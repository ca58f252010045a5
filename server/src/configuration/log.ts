import { type Logger, pino } from 'pino';

/**
 * Structured logs. Bodies, headers and values of records are never logged; what could carry a secret is cut out all the
 * same.
 */
export function makeLog(level: string, name: string): Logger {
  return pino({
    level,
    name,
    redact: {
      paths: [
        '*.authorization',
        '*.cookie',
        '*.password',
        '*.secret',
        '*.credential',
        'err.config',
        'err.query',
        'err.parameters',
        'err.driverError',
        'err.detail',
      ],
      censor: 'left out',
    },
  });
}
