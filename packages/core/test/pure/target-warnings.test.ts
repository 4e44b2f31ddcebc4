import { translateConnectionError } from '../../src/sessions/connection-problem.js'
import { readTargetState } from '../../src/target/target-state.js'
import type { Target } from '../../src/target/target.js'

/** What the server says of itself: each with a `t` or an `f`, or words, in the order in which it is asked. */
const told = async (server: string, version: string, replicationRole: string) => {
  const row = [server, 'survey', 'lm', 'f', 'f', 't', 'f', 'f', 'UTF8', 'f', version, replicationRole]
  return (await readTargetState({ read: () => Promise.resolve({ rows: [row] }) } as unknown as Target)).warnings
}

it.each([
  ['15.6', '150006', 'origin', ''],
  ['13.14', '130014', 'origin', 'PostgreSQL 13.14 is older than 14'],
  ['15.6', '150006', 'replica', 'Neither triggers nor foreign keys hold for the role lm'],
])('a target of PostgreSQL %s (%s) whose role is %s is warned of by "%s"', async (server, version, role, words) => {
  const warnings = await told(server, version, role)
  expect(warnings.join()).toMatch(words)
  expect(warnings).toHaveLength(words === '' ? 0 : 1)
})

it.each([
  ['ECONNREFUSED', 'refused', 'try again when it is back.'],
  ['DEPTH_ZERO_SELF_SIGNED_CERT', 'self-signed certificate', 'give the certificate that signed it'],
  ['ERR_TLS_CERT_ALTNAME_INVALID', 'does not match', 'reach it by a name that its certificate is for.'],
  ['3D000', 'there is no such database', "look at the target's address."],
  [undefined, 'The server does not support SSL connections', '`sslmode=disable`'],
])('a target that cannot be reached for %s (%s) comes with what to do', (code, words, advice) => {
  const { detail } = translateConnectionError('survey', Object.assign(new Error(words), { code, severity: 'FATAL' }))
  expect(detail).toContain(`survey cannot be reached: ${words}. Nothing was sent; `)
  expect(detail).toContain(advice)
})
