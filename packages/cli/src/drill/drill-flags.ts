import { LedgermanProblem } from '@ledgerman/contract'
import { refuseFlags } from '../commands/write-flags.js'

export interface DrillFlags {
  fault?: string
  with?: string[]
  isolation?: string
  guard?: string
  atMost?: string
  seed?: string
  times?: string
  atOnce?: string
  invariant?: string[]
  example?: string
  all?: string
  junit?: string
  code?: string
}

/** What makes a drill one of a kind, and the options that say something of it. */
const KINDS = {
  race: { by: '--times', takes: ['--with', '--isolation', '--at-once', '--invariant', '--example', '--code'] },
  interleaving: { by: '--with', takes: ['--isolation', '--guard', '--at-most', '--seed', '--example', '--code'] },
  fault: { by: '--fault', takes: ['--example', '--code'] },
  files: { by: '--all', takes: ['--junit'] },
} as const

export type DrillKind = keyof typeof KINDS

/**
 * Which kind of drill is asked for. What says nothing of it is refused: somebody may take it for tried.
 *
 * @throws LedgermanProblem request-invalid
 */
export function kindOfDrill(flags: DrillFlags, words: readonly string[]): DrillKind {
  const kind =
    flags.all !== undefined
      ? 'files'
      : flags.times !== undefined
        ? 'race'
        : flags.with !== undefined
          ? 'interleaving'
          : 'fault'
  const { by, takes } = KINDS[kind]
  const others = Object.values(KINDS).flatMap((each) => [each.by, ...each.takes])
  const idle = [...new Set(others)].filter((flag) => flag !== by && !(takes as readonly string[]).includes(flag))
  refuseFlags(flags, Object.fromEntries(idle.map((flag) => [flag, whyNot(flag, kind)])))
  if (kind === 'race' && flags.isolation !== undefined && /,|^all$/.test(flags.isolation.trim()))
    throw new LedgermanProblem('request-invalid', '--isolation: with --times all runs are at one level; name it.', {
      where: '--isolation',
    })
  const [word] = words
  if (kind === 'files' && word !== undefined)
    throw new LedgermanProblem(
      'request-invalid',
      `${word} says nothing here: with --all the files say what is drilled.`,
      {
        where: word,
      },
    )
  return kind
}

function whyNot(flag: string, kind: DrillKind): string {
  if (kind === 'files') return 'with --all the files say how they are drilled'
  const goesWith = Object.values(KINDS)
    .filter(({ by, takes }) => by === flag || (takes as readonly string[]).includes(flag))
    .map(({ by }) => by)
  return goesWith.includes(flag as '--fault')
    ? `a drill is of one kind, and ${KINDS[kind].by} says another`
    : `it goes with ${goesWith.join(' or ')}`
}
