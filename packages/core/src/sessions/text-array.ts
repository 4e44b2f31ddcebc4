/** Characters that PostgreSQL takes as they are and JSON does not, or may not: controls, and halves of a pair. */
const NOT_AS_IN_JSON = /[\0-\x1f\ud800-\udfff]/

/** An array of texts in PostgreSQL's text form ("Arrays", "Array Input and Output Syntax"). */
export function toTextArray(texts: readonly (string | null)[]): string {
  return `{${texts.map((text) => (text === null ? 'NULL' : quoted(text))).join(',')}}`
}

/** Both escape quotes and backslashes alike, and JSON's own writer takes a fifth of the time. */
function quoted(text: string): string {
  return NOT_AS_IN_JSON.test(text) ? `"${text.replace(/["\\]/g, '\\$&')}"` : JSON.stringify(text)
}
