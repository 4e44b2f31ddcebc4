import { type ChangeStep, type Json } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { NewValue } from '../statement/step-shape.js'
import { describeValue, ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'
import type { DefinitionScope } from './definition-scope.js'

/** The values that a step sets: literal ones, and expressions. */
export function newValues(
  scope: DefinitionScope,
  mapping: Mapping,
  { values = {}, compute = {} }: Pick<ChangeStep, 'values' | 'compute'>,
  where: string,
  lockOf: (property: Property) => string | null,
): NewValue[] {
  const computed = Object.entries(compute).flatMap(([property, source]): NewValue[] => {
    const found = scope.propertyOf(mapping, property, `${where}.compute.${property}`)
    const expression = scope.read(`${where}.compute.${property}`, String(source))
    return found && expression ? [{ property: found, expression }] : []
  })
  const both = Object.keys(values).filter((property) => Object.hasOwn(compute, property))
  for (const property of both)
    scope.findings.push({ where: `${where}.compute.${property}`, message: `${property} stands in values as well` })
  const all = [...literalValues(scope, mapping, values, `${where}.values`, true), ...computed]
  for (const { property } of all) {
    const lock = lockOf(property)
    const part = Object.hasOwn(compute, property.name) ? 'compute' : 'values'
    if (lock !== null)
      scope.findings.push({
        where: `${where}.${part}.${property.name}`,
        message: `${property.name} cannot be set: ${lock}`,
      })
  }
  return mapping.properties.flatMap((property) => all.find((value) => value.property === property) ?? [])
}

/** Values as they stand in a definition, in PostgreSQL's text form. */
export function literalValues(
  scope: DefinitionScope,
  mapping: Mapping,
  values: Record<string, unknown>,
  where: string,
  /** Whether a text could be meant as the name of a parameter. */
  mayBeMistaken: boolean,
): (NewValue & { text: string | null })[] {
  return Object.entries(values).flatMap(([name, value]) => {
    const at = `${where}.${name}`
    const property = scope.propertyOf(mapping, name, at)
    if (!property) return []
    if (
      mayBeMistaken &&
      typeof value === 'string' &&
      /^:[\p{L}_]/u.test(value) &&
      !property.column.type.labels?.includes(value)
    ) {
      scope.findings.push({
        where: at,
        message: `"${value}" looks like a parameter; values holds literal values: use compute: { ${name}: "${value}" }`,
      })
      return []
    }
    try {
      return [{ property, text: valueToText(value as Json, property.column.type) }]
    } catch (error) {
      if (!(error instanceof ValueError)) throw error
      const got = property.sensitive ? 'a value that is not shown' : describeValue(value)
      scope.findings.push({ where: at, message: `expected ${error.expected}, got ${got}` })
      return []
    }
  })
}

/** A replacement leaves nothing out. */
export function checkReplaced(scope: DefinitionScope, mapping: Mapping, values: NewValue[], where: string): void {
  const lost = mapping.properties.filter(
    (property) => property.lockedBecause === null && !values.some((value) => value.property === property),
  )
  if (lost.length > 0)
    scope.findings.push({
      where,
      message: `a replacement names every property that can be set; ${lost.map((property) => property.name).join(', ')} would be lost`,
    })
}

/** Whether a change names anything to set, be it right or wrong. */
export function namesAny({ values = {}, compute = {} }: Pick<ChangeStep, 'values' | 'compute'>): boolean {
  return Object.keys(values).length + Object.keys(compute).length > 0
}
