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
