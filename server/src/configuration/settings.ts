import { parseNetwork } from '@anchor-knot/connectors';
import { delimiter } from 'node:path';
import { z } from 'zod';

/** Who mail is from, where nobody said. */
export const noSender = 'anchor-knot@localhost.localdomain';

/** Settings come from the environment and are checked at start. `docs/settings.md` lists them. */
const settingsSchema = z.object({
  DATABASE_URL: z.url({ protocol: /^postgres(ql)?$/ }),
  HOST: z.string().default('127.0.0.1'),
  PORT: z.coerce.number().int().min(0).max(65_535).default(4300),
  /** 32 bytes in base64: encrypts the systems' secrets and signs cookies. */
  SECRET_KEY: z.string().refine((text) => Buffer.from(text, 'base64').length === 32, 'must be 32 bytes in base64'),
  /** Where the built web client is. */
  WEB_FOLDER: z.string().optional(),
  COOKIE_SECURE: z.stringbool().default(false),
  LEASE_SECONDS: z.coerce.number().min(0.1).max(3600).default(60),
  /** How many anchors a part of a run has, which another worker may take. */
  BATCH_SIZE: z.coerce.number().int().min(1).max(100_000).default(2000),
  /** Private networks that systems may be in, in CIDR notation, separated by commas. */
  REACHABLE_NETWORKS: z
    .string()
    .default('')
    .transform((text) => text.split(',').flatMap((part) => part.trim() || []))
    .refine((networks) => networks.every(isNetwork), 'must be networks in CIDR notation, such as 10.0.0.0/8'),
  /** Folders that systems of files may be in, separated by colons. */
  FILE_FOLDERS: z
    .string()
    .default('')
    .transform((text) => text.split(delimiter).flatMap((part) => part.trim() || [])),
  /**
   * Where people and other systems reach this installation, for consents and webhooks; otherwise as the request came.
   */
  PUBLIC_ADDRESS: z.url({ protocol: /^https?$/ }).optional(),
  /** The server that takes mail: `smtp://` or `smtps://`, with user and password where it wants them. */
  SMTP_URL: z.url({ protocol: /^smtps?$/ }).optional(),
  /** Who mail is from. */
  MAIL_FROM: z.email().default(noSender),
  LOG_LEVEL: z.enum(['fatal', 'error', 'warn', 'info', 'debug', 'silent']).default('info'),
});
export type Settings = z.output<typeof settingsSchema>;

function isNetwork(text: string): boolean {
  try {
    return parseNetwork(text) !== undefined;
  } catch {
    return false;
  }
}

/** @throws {Error} naming every setting that is missing or wrong */
export function readSettings(environment: NodeJS.ProcessEnv): Settings {
  const result = settingsSchema.safeParse(environment);
  if (result.success) return result.data;
  const problems = result.error.issues.map(({ path, message }) => `  ${path.join('.')}: ${message}`);
  throw new Error(`Settings are missing or wrong:\n${problems.join('\n')}`);
}
