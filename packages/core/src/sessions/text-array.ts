/** An array of texts in PostgreSQL's text form ("Arrays", "Array Input and Output Syntax"). */
export function toTextArray(texts: readonly (string | null)[]): string {
  return `{${texts.map((text) => (text === null ? 'NULL' : `"${text.replace(/["\\]/g, '\\$&')}"`)).join(',')}}`
}
