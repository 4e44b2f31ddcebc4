import type { Param } from '../plan/plan.js'
import { supported } from './mapping-code.js'
import { memberName, memberOf, quoted } from './text.js'
import { orNull, typeOf, writerOf } from './value-code.js'

/** A parameter as a member of its function's type. */
export function paramMember({ name, type, nullable, default: fallback }: Param): string {
  const value = type === null ? 'string' : typeOf(type)
  return `  ${memberName(name)}${fallback === undefined ? '' : '?'}: ${nullable ? orNull(value) : value}\n`
}

/** That no other parameters are given, as code. */
export function assertParamNames(params: readonly Param[]): string {
  return `  s.assertNames(params, [${params.map(({ name }) => quoted(name)).join(', ')}])\n`
}

/** How a parameter's value is checked and made PostgreSQL's text, as a member of `p`. */
export function paramValue({ name, type, nullable, default: fallback }: Param): string {
  const writer = type === null ? 's.writeText(null)' : supported(writerOf(type))
  const access = memberOf('params', name)
  const written = `s.writeValue(${writer}, ${access}, ${quoted(name)})`
  if (fallback === undefined && !nullable) return `    ${memberName(name)}: s.given(${written}, ${quoted(name)}),\n`
  if (fallback === undefined || fallback === null) return `    ${memberName(name)}: ${written},\n`
  return `    ${memberName(name)}: ${access} === undefined ? ${quoted(fallback)} : ${written},\n`
}
