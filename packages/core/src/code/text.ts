/** A text as a template literal holds it. */
export function inTemplate(text: string): string {
  return text.replace(/[\\`]/g, '\\$&').replaceAll('${', '\\${')
}

/** A text as a string literal, in the quotes that most linters ask for. */
export function quoted(text: string): string {
  return `'${JSON.stringify(text).slice(1, -1).replaceAll('\\"', '"').replaceAll("'", "\\'").replaceAll('\u2028', '\\u2028').replaceAll('\u2029', '\\u2029')}'`
}

/** A text as part of a block comment. */
export function inComment(text: string): string {
  return text.replaceAll('*/', '* /').replace(/\s*\n\s*/g, ' ')
}

/** A member's name: as it stands where it is an identifier. */
export function memberName(name: string): string {
  return /^[\p{ID_Start}_$][\p{ID_Continue}$]*$/u.test(name) ? name : quoted(name)
}
