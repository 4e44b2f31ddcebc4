import { create } from 'xmlbuilder2'

/** One drill as a test: what failed about it, where something did. */
export interface DrillCase {
  name: string
  file: string
  durationMs: number
  /** What was not as expected. */
  unmet: readonly string[]
  /** Why it could not be run at all. */
  error: string | null
}

/** The results in the XML form that CI servers read, as the JUnit task of Ant writes it. Times are in seconds. */
export function toJunit(cases: readonly DrillCase[]): string {
  const seconds = (ms: number) => (ms / 1000).toFixed(3)
  const counts = {
    tests: cases.length,
    failures: cases.filter(({ unmet }) => unmet.length > 0).length,
    errors: cases.filter(({ error }) => error !== null).length,
    time: seconds(cases.reduce((sum, { durationMs }) => sum + durationMs, 0)),
  }
  const root = create({ version: '1.0', encoding: 'UTF-8' }).ele('testsuites', counts)
  const suite = root.ele('testsuite', { name: 'drills', ...counts })
  for (const { name, file, durationMs, unmet, error } of cases) {
    const element = suite.ele('testcase', { name, classname: file, time: seconds(durationMs) })
    if (error !== null) element.ele('error', { message: withoutControls(error) })
    else if (unmet.length > 0)
      element.ele('failure', { message: withoutControls(unmet[0] ?? '') }).txt(withoutControls(unmet.join('\n')))
  }
  return root.end({ prettyPrint: true })
}

/** XML 1.0 has no place for them, escaped or not. */
function withoutControls(text: string): string {
  return text.replace(/[\u0000-\u0008\u000b\u000c\u000e-\u001f\ufffe\uffff]/g, '�')
}
