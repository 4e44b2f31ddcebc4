import {
  isProblem,
  LedgermanProblem,
  parsePrinted,
  printJson,
  type CodeFile,
  type CodeProof,
  type DrilledRun,
  type Json,
  type LoadedRecord,
  type ProvenCase,
  type RecordValues,
} from '@ledgerman/contract'
import { nameCode, type CodeSubjects } from '../../code/emit-code.js'
import type { MappingNames, TransactionNames } from '../../code/names.js'
import { findRecords } from '../../run/find/find-records.js'
import type { Mapping, Property } from '../../mapping/mapping.js'
import { loadRecord } from '../../run/record/load-record.js'
import { parseKeyParts } from '../../run/record/record-key.js'
import { changeRecord, removeRecord } from '../../run/record/write-record.js'
import { runPlan } from '../../run/steps/run-plan.js'
import { drilledPlan, type Definitions } from '../drilled-plan.js'
import type { DrillOptions } from '../drill-options.js'
import type { Drilled } from '../scratch/observe-run.js'
import { inScratch } from '../scratch/in-scratch.js'
import type { ScratchDatabase, ScratchSource } from '../scratch/scratch-database.js'
import { toRowDifference, type SnapshotDifference } from '../scratch/snapshot.js'
import { volatileColumns, type Volatile } from '../volatile.js'
import { entriesSince, entriesText, newestEntry } from './entries-written.js'
import { whatDiffers } from './what-differs.js'
import { asGiven, toArgument } from './arguments.js'
import type { CodeModule, ProofTools } from './proof-tools.js'

/** How many records of each mapping are tried. */
const RECORDS = 3

/**
 * Runs the examples of transactions, and loads, changes and removals of a few records of mappings, through the core and through the written
 * code, in a scratch database: what was told and all rows have to be the same. What two runs of the core differ in (clocks, chance) is not
 * compared.
 *
 * @param files the code, as `emitCode` gives it for the same subjects.
 * @throws LedgermanProblem scratch-unavailable, cancelled
 */
export async function proveCode(
  source: ScratchSource,
  subjects: CodeSubjects,
  files: readonly CodeFile[],
  definitions: Definitions,
  tools: ProofTools,
  { signal, onProgress }: DrillOptions = {},
): Promise<CodeProof> {
  const started = performance.now()
  const code = await tools.load(files)
  if ('configureBook' in code)
    (code['configureBook'] as (settings: object) => void)({
      actor: definitions.actor,
      digestKey: source.target.digestKey,
    })
  const names = nameCode(subjects)
  const runs = await runsOf(source, names)
  const observed = []
  for (const { run } of runs) observed.push(await drilledPlan(source.target, run, definitions, { observes: true }))
  return inScratch(source, observed, { signal }, async (scratch, onEnd) => {
    // Where its connections begin with the limits, the code goes about it in other statements.
    const pools = [{}, code['POOL_SETTINGS'] ?? {}].map((settings) => tools.pool(scratch.url, undefined, settings))
    for (const { end } of pools) onEnd(end)
    const cases: ProvenCase[] = []
    for (const [at, each] of runs.entries()) {
      const drilled = await drilledPlan(scratch.target, each.run, definitions)
      for (const way of waysOf(scratch, each, drilled, code)) {
        if (signal?.aborted) throw new LedgermanProblem('cancelled', 'The caller went away, so the proof was stopped.')
        const tried = await compare(
          scratch,
          way,
          pools.map(({ pool }) => pool),
          'configureBook' in code,
        )
        cases.push(tried)
      }
      onProgress?.(at + 1, runs.length, each.what)
    }
    const notRun = names.transactions.flatMap(({ plan }) =>
      (plan.definition.examples ?? []).length > 0 ? [] : [`${plan.name} has no examples.`],
    )
    const empty = names.mappings.flatMap(({ mapping }) =>
      mapping.key.length === 0
        ? [`${mapping.name} has no key.`]
        : runs.some((run) => 'mapping' in run && run.names.mapping === mapping)
          ? []
          : [`${mapping.name} has no records, or nothing that can be set.`],
    )
    return {
      passed: cases.length > 0 && cases.every(({ same }) => same),
      cases,
      notTried: [...notRun, ...empty],
      scratch: scratch.info,
      durationMs: Math.round(performance.now() - started),
    }
  })
}

type NamedCode = ReturnType<typeof nameCode>
type PlannedRun = { run: DrilledRun; what: string } & (
  { names: MappingNames; mapping: string } | { transaction: TransactionNames; params: Record<string, unknown> }
)

/** One thing done in both ways. */
interface Way {
  what: string
  ours: () => Promise<unknown>
  theirs: (pool: unknown) => Promise<unknown>
}

async function runsOf(source: ScratchSource, { mappings, transactions }: NamedCode): Promise<PlannedRun[]> {
  const runs: PlannedRun[] = transactions.flatMap(({ plan, names }) =>
    (plan.definition.examples ?? []).map((params, at) => ({
      run: { transaction: plan.name, params },
      what: `${plan.name}, example ${at + 1}`,
      transaction: names,
      params,
    })),
  )
  for (const names of mappings) {
    const { mapping } = names
    if (mapping.key.length === 0) continue
    const { found } = await findRecords(source.target, mapping, { limit: RECORDS + 1 }, source.findMapping)
    const [first] = found
    const unique = new Set(mapping.table.uniques.flatMap(({ columns }) => columns))
    // All that another record may have as well, so that values of every kind are written; one record after the other has them. One that is alone, or like
    // all others, is given its own.
    const settable = mapping.properties.filter(
      ({ key, lockedBecause, sensitive, column }) =>
        !key && lockedBecause === null && !sensitive && !unique.has(column.name),
    )
    const differing = settable.filter(({ name }) => new Set(found.map((record) => printJson(record[name]))).size > 1)
    const set = differing.length > 0 ? differing : settable
    if (!first || set.length === 0) continue
    for (const [at, record] of found.slice(0, RECORDS).entries()) {
      const other = found[(at + 1) % found.length] ?? first
      const key = Object.fromEntries(mapping.key.map(({ name }) => [name, record[name]]))
      const values = Object.fromEntries(
        set.map(({ name, column }) => [name, asGiven((other[name] ?? null) as Json, column.type)]),
      )
      const what = `${mapping.name} ${Object.values(key).map(String).join(',')}`
      runs.push({ run: { mapping: mapping.name, key, values }, what, names, mapping: mapping.name })
    }
  }
  return runs
}

function waysOf(scratch: ScratchDatabase, each: PlannedRun, { plan, params, actor }: Drilled, code: CodeModule): Way[] {
  const call = (name: string, ...words: unknown[]) => (code[name] as (...all: unknown[]) => Promise<unknown>)(...words)
  if ('transaction' in each) {
    const typeOf = (name: string) => plan.params.get(name)?.type ?? null
    const mapped = (to: (value: Json, type: ReturnType<typeof typeOf>) => unknown) =>
      Object.fromEntries(Object.entries(params).map(([name, value]) => [name, to(value, typeOf(name))]))
    const given = mapped(toArgument)
    const same = mapped(asGiven) as typeof params
    return [
      {
        what: each.what,
        ours: async () => countsOf(await runPlan(scratch.target, plan, { mode: 'commit', actor, params: same })),
        theirs: (pool) => call(each.transaction.fn, pool, given).then(countsOfCode),
      },
    ]
  }
  const { type } = each.names
  const { key = {}, values = {} } = each.run as { key?: object; values?: object }
  const mapping = plan.mappings.get(each.mapping) as Mapping
  const keyTexts = parseKeyParts(mapping, Object.values(key).map(String))
  const load = () => loadRecord(scratch.target, mapping, keyTexts)
  const loadByCode = (pool: unknown) =>
    call(`load${type}`, pool, key) as Promise<{ record: object; guard: string | null }>
  const request = async () => {
    const { guard } = await load()
    const held = guard === null ? ('any' as const) : { guards: [guard] }
    return { key: keyTexts, guard: held, mode: 'commit' as const, actor }
  }
  return [
    {
      what: `load ${each.what}`,
      ours: () => load().then((loaded) => asCodeReads(mapping, loaded)),
      theirs: loadByCode,
    },
    ...(`change${type}` in code
      ? [
          {
            what: `change ${each.what}`,
            ours: async () =>
              countsOfRecord(
                await changeRecord(scratch.target, mapping, { ...(await request()), values: { ...values } }),
              ),
            theirs: async (pool: unknown) =>
              countsOfCode(await call(`change${type}`, pool, await loadByCode(pool), values)),
          },
        ]
      : []),
    ...(`remove${type}` in code
      ? [
          {
            what: `remove ${each.what}`,
            ours: async () => countsOfRecord(await removeRecord(scratch.target, mapping, await request())),
            theirs: async (pool: unknown) => countsOfCode(await call(`remove${type}`, pool, await loadByCode(pool))),
          },
        ]
      : []),
  ]
}

/** A record as written code reads it: in json, numbers are JavaScript's. */
function asCodeReads(mapping: Mapping, { record, guard }: LoadedRecord): LoadedRecord {
  const isJson = ({ column: { type } }: Property) => /^jsonb?$/.test(type.element?.kind ?? type.kind)
  const read = mapping.properties.filter(isJson).map(({ name }) => [name, JSON.parse(printJson(record[name])) as Json])
  return { record: { ...record, ...(Object.fromEntries(read) as RecordValues) }, guard }
}

interface Done {
  told: string
  /** What the book got; nothing is looked up where the code writes no entries. */
  entries: Awaited<ReturnType<typeof entriesSince>>
  differing: SnapshotDifference[]
}

/**
 * Does it twice our way, so that what a clock or chance gives is known, and once theirs on each pool.
 *
 * @param pools a plain one, then one whose connections begin with the settings of the code
 */
async function compare(
  scratch: ScratchDatabase,
  { what, ours, theirs }: Way,
  pools: readonly unknown[],
  isBooked: boolean,
): Promise<ProvenCase> {
  const [first, second] = [await doIt(scratch, isBooked, ours), await doIt(scratch, isBooked, ours)]
  const volatile: Volatile = volatileColumns(first.differing, second.differing)
  const tried: ProvenCase[] = []
  for (const [at, pool] of pools.entries()) {
    const code = await doIt(scratch, isBooked, () => theirs(pool))
    const rows = whatDiffers(first.differing, code.differing, volatile)
    const entries = { service: entriesText(first.entries, volatile), code: entriesText(code.entries, volatile) }
    const sameEntries = entries.service === entries.code
    tried.push({
      what: at === 0 ? what : `${what}, on a pool with POOL_SETTINGS`,
      service: first.told,
      code: code.told,
      rows: first.differing.length,
      same: first.told === code.told && rows.length === 0 && sameEntries,
      ...(sameEntries ? {} : { entries }),
      differing: rows.map(toRowDifference),
    })
  }
  const [plain] = tried
  return tried.find(({ same }) => !same) ?? (plain as ProvenCase)
}

async function doIt(scratch: ScratchDatabase, isBooked: boolean, work: () => Promise<unknown>): Promise<Done> {
  const newest = isBooked ? await newestEntry(scratch) : ''
  const told = await work().then(
    // Read and written again, so that no space of a json value counts.
    (value) => printJson(parsePrinted(printJson(value))),
    (error: unknown) => {
      if (isProblem(error)) return error.code
      const { code } = error as { code?: unknown }
      if (typeof code === 'string') return code
      throw error
    },
  )
  const entries = isBooked ? await entriesSince(scratch, newest) : []
  const differing = await scratch.differing()
  await scratch.reset(differing)
  return { told, entries, differing }
}

function countsOf({
  receipt,
}: {
  receipt: { steps: { kind: string; matched: number | null; changed: number | null; skipped: boolean }[] }
}) {
  const writing = receipt.steps.filter(({ kind, skipped }) => !skipped && kind !== 'load' && kind !== 'require')
  const sum = (of: 'matched' | 'changed') => writing.reduce((all, step) => all + (step[of] ?? 0), 0)
  return { matched: sum('matched'), changed: sum('changed') }
}

function countsOfRecord({ receipt }: { receipt: { steps: { matched: number | null; changed: number | null }[] } }) {
  const [step] = receipt.steps
  return { matched: step?.matched ?? null, changed: step?.changed ?? null }
}

function countsOfCode(result: unknown) {
  const { matched, changed } = result as { matched: number; changed: number }
  return { matched, changed }
}
