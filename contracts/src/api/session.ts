import { z } from 'zod';

export const roles = ['viewer', 'operator', 'editor', 'administrator'] as const;
export const roleSchema = z.enum(roles);
export type Role = z.output<typeof roleSchema>;

export const signInSchema = z.object({
  email: z.string().trim().min(1).max(320),
  password: z.string().min(1).max(1000),
});
export const personSchema = z.object({ name: z.string(), email: z.string(), role: roleSchema });
export type Person = z.output<typeof personSchema>;
export const sessionSchema = z.object({ person: personSchema, csrfToken: z.string() });
export type Session = z.output<typeof sessionSchema>;
