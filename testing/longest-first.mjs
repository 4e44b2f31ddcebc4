import Sequencer from '@jest/test-sequencer'

// A clean clone knows nothing of how long a suite takes: one that takes minutes would be begun last, with the other worker idle beside it.
const LONGEST = [
  'cli/test/process/docs-examples',
  'service/test/http/drills',
  'service/test/http/kills',
  'service/test/http/code',
  'console/test/overview',
  'core/test/database/odd-relations',
  'core/test/database/random-load',
  'console/test/find-and-tables',
]

/** Begins with the suites that take longest; the others come as Jest has them. */
export default class LongestFirst extends Sequencer {
  sort(tests) {
    const place = ({ path }) => {
      const at = LONGEST.findIndex((part) => path.includes(part))
      return at < 0 ? LONGEST.length : at
    }
    return super.sort(tests).sort((one, other) => place(one) - place(other))
  }
}
