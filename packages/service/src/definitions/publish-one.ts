import { LedgermanProblem, type DefinitionKind } from '@ledgerman/contract'
import type { Target } from '@ledgerman/core'
import type { ExpectedRevision, Revision } from '../home/definition-store.js'
import { readEntityTags } from '../http/conditional.js'
import type { Call } from '../http/route.js'
import type { Services } from '../routes/services.js'
import { checkDefinitions } from './check-definitions.js'
import { publishChecked } from './publish-checked.js'
import { definitionsRefused, readDefinitions } from './read-definition.js'

/**
 * Publishes the one definition that a body holds, under the name its address has.
 *
 * @throws LedgermanProblem definition-invalid with lines and reasons; record-changed where If-Match does not fit.
 */
export async function publishOne<Kind extends DefinitionKind>(
  { home, targets }: Services,
  target: Target,
  kind: Kind,
  call: Pick<Call, 'params' | 'text' | 'caller' | 'request'>,
): Promise<{ revision: Revision<Kind>; isNew: boolean }> {
  const { definitions, findings } = readDefinitions(call.text, null)
  if (findings.length > 0) throw definitionsRefused(findings)
  const [read] = definitions
  const name = call.params[kind] ?? ''
  if (!read || definitions.length > 1 || read.kind !== kind || read.name !== name) {
    const got = definitions.map((each) => `the ${each.kind} ${each.name}`).join(' and ')
    throw new LedgermanProblem('definition-invalid', `The address is that of the ${kind} ${name}, the body ${got}.`, {
      where: kind,
    })
  }
  const expected = expectedRevision(call)
  const [published] = await publishChecked(home, target.name, call.caller.actor, async () => {
    const wrong = await checkDefinitions(targets, target, [read], { isLenient: true })
    if (wrong.length > 0) throw definitionsRefused(wrong)
    return [{ ...read, expected }]
  })
  targets[`${kind}s`].forget(target.name, name)
  return published as { revision: Revision<Kind>; isNew: boolean }
}

/**
 * What If-Match and If-None-Match say of the latest revision: which it is, that there is one, or that there is none.
 *
 * @throws LedgermanProblem request-invalid for what would be dropped
 */
export function expectedRevision({ request }: Pick<Call, 'request'>): ExpectedRevision | undefined {
  const refuse = (where: string, expected: string) => {
    throw new LedgermanProblem('request-invalid', `${where}: expected ${expected}, got ${request.headers[where]}.`, {
      where,
    })
  }
  const [tags, none] = [readEntityTags(request, 'if-match'), readEntityTags(request, 'if-none-match')]
  if (none !== undefined) {
    if (none !== '*') refuse('if-none-match', '*, or If-Match with a revision')
    if (tags !== undefined) refuse('if-none-match', 'it without If-Match')
    return 'none'
  }
  if (tags === undefined) return undefined
  if (tags === '*') return 'some'
  const [first = '', ...others] = tags.strong
  if (others.length > 0) refuse('if-match', 'one revision')
  const [, revision] = /^(\d{1,9})(\.yaml)?$/.exec(first) ?? []
  return revision === undefined ? -1 : Number(revision)
}

/** The revision an address names. @throws LedgermanProblem request-invalid */
export function revisionOf({ params }: Pick<Call, 'params'>): number {
  const number = Number(params['revision'])
  if (Number.isInteger(number) && number >= 1 && number <= 1e9) return number
  throw new LedgermanProblem('request-invalid', `revision: expected a number from 1, got "${params['revision']}".`, {
    where: 'revision',
  })
}
