import { z } from 'zod'

/** What a token may do; each role includes the ones before it. */
export const ROLES = ['reader', 'writer', 'author', 'admin'] as const
export const role = z.enum(ROLES)
export type Role = z.output<typeof role>

/** Whether somebody with the role `held` may do what needs the role `needed`. */
export function includesRole(held: Role, needed: Role): boolean {
  return ROLES.indexOf(held) >= ROLES.indexOf(needed)
}
