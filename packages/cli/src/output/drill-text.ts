import colors from 'picocolors'
import type { Anomaly, DrillReport, FaultResult, InterleavingDrill, RaceDrill, ScratchInfo } from '@ledgerman/contract'
import { countOf, drillVerdict } from '@ledgerman/client'
import { indent } from './receipt-text.js'
import { formatTable, formatValue } from './table.js'

const MOST_VALUES = 4

/** A drill's result, for people. */
export function formatDrill(report: DrillReport): string {
  const body =
    report.kind === 'fault'
      ? formatFaults([report.undisturbed, ...report.results])
      : report.kind === 'interleaving'
        ? formatInterleavings(report)
        : formatRace(report)
  const of = report.of === 'code' ? 'What ran is the code that is written for it, not the definition.\n' : ''
  return `${body}\n\n${verdict(report)}\n${colors.dim(of + formatScratch(report.scratch))}`
}

/** One line that says whether a drill found something. */
export function verdict(report: DrillReport): string {
  const { kind, words } = drillVerdict(report)
  return kind === 'nothing found'
    ? colors.green(words)
    : colors.red(kind === 'not drilled' ? `Not drilled: ${words}` : words)
}

function formatFaults(results: readonly FaultResult[]): string {
  return formatTable(
    ['', 'fault', 'caller saw', 'rows', 'result'],
    results.map(({ fault, outcome, differing, staged, agrees, message }) => [
      !agrees ? colors.red('!!') : staged ? colors.green('ok') : colors.yellow('??'),
      fault,
      outcome === 'committed' ? colors.green(outcome) : outcome,
      differing.length === 0 ? colors.dim('as before') : `${differing.length} differ`,
      message.length > 90 ? `${message.slice(0, 89)}…` : message,
    ]),
  )
}

function formatInterleavings({ runs, results, notCompared }: InterleavingDrill): string {
  const who = runs.map(
    ({ run, what, statements }) => `${run}  ${what}, ${countOf(statements, 'statement')} with its commit`,
  )
  const table = formatTable(
    ['isolation', 'guard', 'tried', 'committed', 'refused', 'why', 'anomalies'],
    results.map(({ isolation, guard, tried, committed, refused, refusals, anomalies }) => [
      isolation,
      guard,
      String(tried),
      String(committed),
      String(refused),
      Object.entries(refusals)
        .map(([code, count]) => `${code} ${count}`)
        .join(', '),
      anomalies.length === 0
        ? colors.green('none')
        : colors.red(anomalies.map(({ name, schedules }) => `${name} ${schedules}`).join(', ')),
    ]),
    ['tried', 'committed', 'refused'],
  )
  const first = new Map<string, { where: string; anomaly: Anomaly }>()
  for (const { isolation, guard, anomalies } of results)
    for (const anomaly of anomalies)
      if (!first.has(anomaly.name)) first.set(anomaly.name, { where: `${isolation}, guard ${guard}`, anomaly })
  const shown = [...first.values()].map(
    ({ where, anomaly }) =>
      `${colors.red(anomaly.name)} at ${where}: ${anomaly.message}\n${indent(formatSchedule(anomaly.schedule))}`,
  )
  const left =
    notCompared.length === 0 ? [] : [colors.dim(`Not compared, since chance decides them: ${notCompared.join(', ')}.`)]
  return [who.join('\n'), table, ...shown, ...left].join('\n\n')
}

/** A schedule as it went, a line for each statement, a column for each run. */
export function formatSchedule(schedule: Anomaly['schedule']): string {
  // What somebody changes is what is worth seeing of what is read.
  const names = new Set(schedule.flatMap(({ writes }) => writes.flatMap(({ after }) => Object.keys(after ?? {}))))
  return formatTable(
    ['', 'run', 'statement', ''],
    schedule.map(({ run, step, message, action, reads, writes }, at) => [
      String(at + 1),
      run,
      `${step === 'commit' ? '' : `${step}  `}${message.length > 70 ? `${message.slice(0, 69)}…` : message}`,
      [
        action === 'ran' ? '' : colors.yellow(action),
        ...reads.slice(0, 2).map(({ values }) => `sees ${formatValues(values, names)}`),
        ...writes.map(
          ({ before, after }) => `${formatValues(before ?? {})} → ${after ? formatValues(after) : 'removed'}`,
        ),
      ]
        .filter((part) => part !== '')
        .join('; '),
    ]),
    [''],
  )
}

function formatValues(values: Record<string, unknown>, names?: ReadonlySet<string>): string {
  const all = Object.entries(values)
  const named = all.filter(([name]) => names?.has(name))
  const entries = named.length > 0 ? named : all
  const shown = entries.slice(0, MOST_VALUES).map(([name, value]) => `${name} ${formatValue(value, 24)}`)
  return shown.join(', ') + (entries.length > MOST_VALUES ? ', …' : '')
}

function formatRace({ committed, refused, refusals, retries, latencyMs, perSecond, kept }: RaceDrill): string {
  const why = Object.entries(refusals).map(([code, count]) => `${code} ${count}`)
  const counts = formatTable(
    ['committed', 'refused', 'retries', 'median', 'p95', 'slowest', 'runs a second'],
    [
      [
        String(committed),
        why.length > 0 ? `${refused} (${why.join(', ')})` : String(refused),
        String(retries),
        `${latencyMs.median} ms`,
        `${latencyMs.p95} ms`,
        `${latencyMs.most} ms`,
        String(perSecond),
      ],
    ],
  )
  if (kept.length === 0) return counts
  const invariants = formatTable(
    ['', 'kept', '', 'checks'],
    kept.map(({ expression, held, message, checks }) => [
      held ? colors.green('ok') : colors.red('!!'),
      expression,
      message,
      String(checks),
    ]),
    ['checks'],
  )
  return `${counts}\n\n${invariants}`
}

function formatScratch({ tables, notes, builtMs }: ScratchInfo): string {
  const rows = tables.map(({ table, rows: count }) => `${count} of ${table}`).join(', ')
  return [
    `In a scratch database of its own, built in ${builtMs} ms: ${rows || 'no rows'}. The target was only read.`,
    ...notes,
  ].join('\n')
}
