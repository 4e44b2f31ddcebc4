import type { DrillReport } from '@ledgerman/contract'
import { countOf } from './count-of.js'

/** What a drill came to: `not drilled` where it shows nothing, which is neither passed nor failed. */
export interface DrillVerdict {
  kind: 'nothing found' | 'something is wrong' | 'not drilled'
  /** One sentence, for people. */
  words: string
}

/** Says in a sentence whether a drill found something. */
export function drillVerdict(report: DrillReport): DrillVerdict {
  const seconds = `${(report.durationMs / 1000).toFixed(1)} s`
  if (report.notRun !== null) return { kind: 'not drilled', words: report.notRun }
  switch (report.kind) {
    case 'fault': {
      const all = report.results.length
      const wrong = report.results.filter(({ agrees }) => !agrees).length
      const unstaged = report.results.filter(({ staged }) => !staged).length
      if (wrong > 0) return bad(`${wrong} of ${all} faults in ${seconds} leave something wrong.`)
      return unstaged > 0
        ? {
            kind: 'not drilled',
            words: `${unstaged} of ${all} faults in ${seconds} could not be brought about: they show nothing.`,
          }
        : good(
            `${countOf(all, 'fault')} in ${seconds}: what the caller was told, the rows and the book agree after each.`,
          )
    }
    case 'interleaving': {
      const tried = report.results.reduce((sum, each) => sum + each.tried, 0)
      const found = report.results.reduce(
        (sum, { anomalies }) => sum + anomalies.reduce((all, { schedules }) => all + schedules, 0),
        0,
      )
      const sample = report.sampled
        ? `a sample of the ${report.possible} at each level and guard (seed ${report.seed})`
        : 'all there are'
      return found === 0
        ? good(`${tried} schedules in ${seconds}, ${sample}: all schedules were serializable.`)
        : bad(`${found} of ${tried} schedules match no serial order. The ${tried} are ${sample}, and took ${seconds}.`)
    }
    case 'race': {
      const runs = `${countOf(report.times, 'run')}, ${Math.min(report.atOnce, report.times)} at once, in ${seconds}`
      if (report.passed && report.kept.length === 0)
        return good(`${runs}. No invariant was given, so none was checked.`)
      return report.passed ? good(`${runs}: every invariant held.`) : bad(`${runs}: an invariant was broken.`)
    }
  }
}

const good = (words: string): DrillVerdict => ({ kind: 'nothing found', words })
const bad = (words: string): DrillVerdict => ({ kind: 'something is wrong', words })
