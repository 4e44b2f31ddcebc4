import { suggestName, type ChangeStep, type LoadStep, type RemoveStep, type StepDefinition } from '@ledgerman/contract'
import { uniqueOver } from '../mapping/unique-over.js'
import { parseExpression } from '../values/expression/parse.js'
import type { Mapping } from '../mapping/mapping.js'
import type { Finder } from '../statement/build-load-step.js'
import type { DefinitionScope } from './definition-scope.js'

/** How a step finds its rows: by key, or by a condition; undefined where it does not say, or says it wrongly. */
export function finderOf(
  scope: DefinitionScope,
  mapping: Mapping,
  step: Pick<LoadStep, 'key' | 'where'>,
  where: string,
  everyRow = false,
): Finder | undefined {
  if (step.key && step.where !== undefined) {
    scope.findings.push({ where, message: 'it has both key and where; say one' })
    return undefined
  }
  if (step.where !== undefined) {
    const named = scope.read(`${where}.where`, step.where)
    return named && { where: named }
  }
  if (!step.key) {
    if (everyRow) return { where: null }
    scope.findings.push({ where, message: 'it says neither key nor where' })
    return undefined
  }
  if (mapping.key.length === 0) {
    scope.findings.push({ where: `${where}.key`, message: `${mapping.name} has no key; use where and a stated count` })
    return undefined
  }
  const keys = Object.keys(step.key)
  const unknown = keys.filter((each) => !mapping.byName.has(each))
  for (const each of unknown)
    scope.findings.push({
      where: `${where}.key.${each}`,
      message: `${each} is not a property of ${mapping.name}. ${suggestName(each, mapping.byName.keys())}`,
    })
  if (unknown.length > 0) return undefined
  const isKey = mapping.key.length === keys.length && mapping.key.every((property) => keys.includes(property.name))
  const properties = keys.flatMap((each) => mapping.byName.get(each) ?? [])
  const isUnique = uniqueOver(mapping, properties) !== undefined
  if (!isKey && !isUnique)
    scope.findings.push({
      where: `${where}.key`,
      message: `${keys.join(', ')} is no unique key of ${mapping.name}; its key is ${mapping.key.map((property) => property.name).join(', ')}`,
    })
  const parts = Object.entries(step.key).flatMap(([property, source]) => {
    const expression = scope.read(`${where}.key.${property}`, String(source))
    return expression ? [{ property, expression }] : []
  })
  return parts.length === keys.length ? { key: parts } : undefined
}

/** The record that an earlier step loaded, by its key. */
export function loadedFinder(mapping: Mapping, subject: string): Finder {
  return {
    key: mapping.key.map(({ name: property }) => {
      const source = `${subject}.${property}`
      return { property, expression: { label: 'key', source, expression: parseExpression(source) } }
    }),
  }
}

/** Which guards a step goes by. */
export function guardsOf(
  scope: DefinitionScope,
  step: ChangeStep | RemoveStep | Exclude<StepDefinition, LoadStep>,
  where: string,
  mapping: Mapping,
  isLoaded: boolean,
) {
  const guard = 'guard' in step ? step.guard : undefined
  if (guard === undefined) return isLoaded && mapping.guard.by !== 'none' ? ('loaded' as const) : null
  if (guard === 'any') return 'any' as const
  const parameter = /^:([\p{L}_][\p{L}\p{N}_]*)$/u.exec(guard)?.[1]
  if (parameter === undefined) return [guard]
  scope.used.add(parameter)
  if (scope.params.has(parameter)) return { parameter }
  scope.findings.push({ where: `${where}.guard`, message: `unknown parameter :${parameter}` })
  return null
}
