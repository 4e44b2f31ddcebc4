/** A text as a template literal holds it. */
export function inTemplate(text: string): string {
  // A carriage return would be read as a line feed there (ECMA-262, section 12.9.6).
  return text.replace(/[\\`]/g, '\\$&').replaceAll('${', '\\${').replaceAll('\r', '\\r')
}

/** A text as a string literal, in the quotes that most linters ask for. */
export function quoted(text: string): string {
  return `'${JSON.stringify(text).slice(1, -1).replaceAll('\\"', '"').replaceAll("'", "\\'").replaceAll('\u2028', '\\u2028').replaceAll('\u2029', '\\u2029')}'`
}

/** A text as part of a comment, to the end of a line or in a block: none of what ends a line or a block (ECMA-262, section 12.3) stays in it. */
export function inComment(text: string): string {
  return text
    .replaceAll('*/', '* /')
    .split(/[\n\r\u2028\u2029]/)
    .map((line) => line.trim())
    .filter(Boolean)
    .join(' ')
}

/** A member's name: as it stands where it is an identifier. */
export function memberName(name: string): string {
  return isIdentifier(name) ? name : quoted(name)
}

/** How a member of an object is asked for. */
export function memberOf(object: string, name: string): string {
  return isIdentifier(name) ? `${object}.${name}` : `${object}[${quoted(name)}]`
}

/** ECMA-262, section 12.7. A name may have more: a figure such as ² is no part of an identifier. */
function isIdentifier(name: string): boolean {
  return /^[\p{ID_Start}_$][\p{ID_Continue}$]*$/u.test(name)
}

/** What a function without parameters gives, as code. */
export function called(does: string): string {
  return does.replace(/^\(\) => /, '')
}
