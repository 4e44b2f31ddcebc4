import { mkdtempSync, rmSync } from 'node:fs'
import { cpus, tmpdir } from 'node:os'
import { join } from 'node:path'
import pg from 'pg'
import { changeRecord, loadRecord, parseKeyParts, prepareBook, resolveMapping, Target } from '@ledgerman/core'
import { findFreePort, removeCluster, startCluster } from '@ledgerman/local'
import { allocation, Hand, makeBenchTable, sightings } from './bench-table.js'
import { compareCatalogues } from './cases/catalogue.js'
import { compareCommands } from './cases/commands.js'
import { compareFinds, comparePages } from './cases/finds.js'
import {
  compareExport,
  compareFile,
  compareFiltered,
  compareLoop,
  compareReversal,
  keepChanging,
} from './cases/many.js'
import { compareTransfers, fill, transferDefinition } from './cases/transfers.js'
import { writtenCode } from './cases/written-code.js'
import { CALLERS, compare, type Ratio } from './compare.js'
import { changeByHand, changeByHandWithAudit, loadByHand } from './hand-written.js'
import { call } from './http-caller.js'
import { startServers, type Servers } from './servers.js'

const CROWD = 64

const dataDir = mkdtempSync(join(tmpdir(), 'ledgerman-bench-'))
const cluster = await startCluster({ dataDir, port: await findFreePort() })
let servers: Servers | undefined
try {
  const admin = new pg.Client({ connectionString: cluster.adminUrl('postgres') })
  await admin.connect()
  await admin.query('create database bench')
  await admin.query('create database home')
  await admin.end()
  const url = cluster.adminUrl('bench')
  await makeBenchTable(url)
  const pool = new pg.Pool({ connectionString: url, max: CALLERS })
  pool.on('error', () => undefined)
  const target = new Target({ name: 'bench', url, connections: CALLERS, digestKey: Buffer.from('bench') })
  await prepareBook(target)
  const mapping = resolveMapping(allocation, 1, await target.table('public.allocation'))
  const hand = new Hand(CALLERS)
  const changing = async (
    caller: number,
    change: (id: number, version: number, hours: string) => Promise<unknown>,
    by = hand,
  ) => {
    const id = by.next(caller)
    const version = by.version(id)
    await change(id, version, `${version % 400}.25`)
    by.changed(id)
  }

  /** Runs a comparison and prints it, unless only others were asked for: `npm run bench -- find transfer`. */
  const show = async (title: string, measure: () => Promise<Ratio[]>): Promise<void> => {
    const wanted = process.argv.slice(2)
    if (wanted.length === 0 || wanted.some((word) => title.includes(word))) print(title, await measure())
  }

  /** The same for what prints by itself. */
  const onlyIf = async (title: string, measure: () => Promise<Ratio[]>): Promise<Ratio[]> => {
    const wanted = process.argv.slice(2)
    return wanted.length === 0 || wanted.some((word) => title.includes(word)) ? measure() : []
  }

  console.log(`${cpus().length} × ${cpus()[0]?.model ?? 'processor'}, Node ${process.version}, ${CALLERS} callers\n`)

  await show('One keyed change, through core', () =>
    compare([
      {
        name: 'hand-written, no audit (3 round trips)',
        once: (caller) => changing(caller, (id, version, hours) => changeByHand(pool, id, version, hours)),
      },
      {
        name: 'hand-written, equal audit (5 round trips)',
        once: (caller) => changing(caller, (id, version, hours) => changeByHandWithAudit(pool, id, version, hours)),
      },
      {
        name: 'Ledgerman core, with its entry (1 round trip)',
        once: (caller) =>
          changing(caller, (id, version, hours) =>
            changeRecord(target, mapping, {
              key: parseKeyParts(mapping, [String(id)]),
              values: { hours },
              guard: { guards: [`v${version}`] },
              mode: 'commit',
              actor: 'bench',
            }),
          ),
      },
    ]),
  )

  await show('One load by key, through core', () =>
    compare([
      { name: 'hand-written', once: (caller) => loadByHand(pool, hand.next(caller)) },
      {
        name: 'Ledgerman core',
        once: (caller) => loadRecord(target, mapping, parseKeyParts(mapping, [String(hand.next(caller))])),
      },
    ]),
  )

  const written = await writtenCode(target, mapping, pool, url, hand)
  await show('Written code: a load by key', written.load)
  await show('Written code: a keyed change', written.change)
  await show('Written code: a keyed change with its entry', written.booked)
  await show('Written code on a pool with its settings: a keyed change', written.alone.change)
  await show('Written code on a pool with its settings: a keyed change with its entry', written.alone.booked)

  const sighting = resolveMapping(sightings, 1, await target.table('public.sighting'))
  await show('A page of 50 from a million rows', () => comparePages(target, sighting, pool))
  await show('A find by expression', () => compareFinds(target, sighting, pool))
  await show('Many records: one column of 200,000, times as long', () => compareFiltered(target, pool, 200_000, 5))
  await show('Many records: one column of 1,000,000, times as long', () => compareFiltered(target, pool, 1_000_000, 3))
  await show('Many records: 200,000 put back, times as long', () => compareReversal(target, pool, 200_000, 15))
  await show('Many records: 100,000 one by one, times as long', () => compareLoop(target, pool, 100_000))
  const both = (servers = await startServers(cluster.adminUrl('home'), url))
  const bearer = { authorization: `Bearer ${both.token}` }
  const records = `${both.ours}/v1/targets/bench/mappings/allocation`
  await fetch(records, {
    method: 'PUT',
    headers: { ...bearer, 'content-type': 'application/json' },
    body: JSON.stringify(allocation),
  })
  const json = { 'content-type': 'application/json' }
  const many = { ours: both.ours, token: both.token, targetUrl: url }
  await show('Many records: a file of 100,000, times as long', () => compareFile(many, target, pool, 100_000))
  await show('Many records: an export of 1,000,000, times as long', () => compareExport(many, target, pool, 1_000_000))
  const patch = { ...bearer, 'content-type': 'application/merge-patch+json' }

  const changesOverHttp = (by: Hand) => [
    {
      name: 'hand-written endpoint, no audit',
      once: (caller: number) =>
        changing(
          caller,
          (id, version, hours) =>
            call(
              `${both.theirs}/allocations/${id}`,
              'PATCH',
              { ...json, 'if-match': `"${version}"` },
              JSON.stringify({ hours }),
            ),
          by,
        ),
    },
    {
      name: 'Ledgerman service, with its entry',
      once: (caller: number) =>
        changing(
          caller,
          (id, version, hours) =>
            call(
              `${records}/records/${id}`,
              'PATCH',
              { ...patch, 'if-match': `"v${version}"` },
              JSON.stringify({ hours }),
            ),
          by,
        ),
    },
  ]
  await show('One keyed change, through HTTP', () => compare(changesOverHttp(hand)))
  await show('The same, one caller, how long the middle one takes', () =>
    compare(changesOverHttp(hand), { callers: 1, by: 'p50' }),
  )
  const crowd = new Hand(CROWD, hand)
  await show('The same, 64 callers, how long all but one of a hundred take', () =>
    compare(changesOverHttp(crowd), { callers: CROWD, by: 'p99' }),
  )
  const changesOnly = (by: Hand) => changesOverHttp(by).slice(1)
  const [alone] = await onlyIf('Many records: keyed changes beside a job', () =>
    compare(changesOnly(hand), { callers: 8, by: 'p99', rounds: 8 }),
  )
  if (alone) {
    const end = await keepChanging(target, pool, 1_000_000)
    const [beside] = await compare(changesOnly(hand), { callers: 8, by: 'p99', rounds: 8 }).finally(end)
    print('Many records: keyed changes beside a job, p99 of 8 callers', [alone, beside as Ratio])
  }
  await show('A command', () => compareCommands(both.ours, both.token))
  await show('One load by key, through HTTP', () =>
    compare([
      {
        name: 'hand-written endpoint',
        once: (caller) => call(`${both.theirs}/allocations/${hand.next(caller)}`, 'GET'),
      },
      { name: 'Ledgerman service', once: (caller) => call(`${records}/records/${hand.next(caller)}`, 'GET', bearer) },
    ]),
  )
  // Last, since transfers move the versions that the callers above know.
  await show('A transfer between two of 1,000 rows, through core', () => compareTransfers(target, mapping, pool, 1_000))
  await show('A transfer between two of 4 rows, through core', () => compareTransfers(target, mapping, pool, 4))
  await show('Written code: a transfer', written.transfer)
  await show('Written code: a transfer with its entry', written.bookedTransfer)
  await show('Written code on a pool with its settings: a transfer', written.alone.transfer)
  await show('Written code on a pool with its settings: a transfer with its entry', written.alone.bookedTransfer)
  await show('Reading the catalogue', () => compareCatalogues(cluster.adminUrl('bench')))
  await fetch(`${both.ours}/v1/targets/bench/transactions/transfer`, {
    method: 'PUT',
    headers: { ...bearer, 'content-type': 'application/json' },
    body: JSON.stringify(transferDefinition),
  })
  await fill(pool)
  for (const rows of [1_000, 4]) {
    const body = () => {
      const from = 1 + Math.floor(Math.random() * rows)
      const to = 1 + ((from + Math.floor(Math.random() * (rows - 1))) % rows)
      return { from: String(from), to: String(to), hours: '0.01' }
    }
    await show(`A transfer between two of ${rows} rows, through HTTP`, () =>
      compare(
        [
          {
            name: 'hand-written endpoint, no audit',
            once: () => call(`${both.theirs}/transfers`, 'POST', json, JSON.stringify(body())),
          },
          {
            name: 'Ledgerman service, with its entry',
            once: () =>
              call(
                `${both.ours}/v1/targets/bench/runs`,
                'POST',
                { ...bearer, ...json },
                JSON.stringify({ mode: 'commit', transaction: 'transfer', params: body() }),
              ),
          },
        ],
        { rounds: 8 },
      ),
    )
  }
  await Promise.all([pool.end(), target.close()])
} catch (error) {
  console.error(error)
  process.exitCode = 1
} finally {
  servers?.stop()
  await cluster.stop()
  removeCluster(dataDir)
  rmSync(dataDir, { recursive: true, force: true })
}

function print(title: string, ratios: Ratio[]): void {
  console.log(title)
  for (const { name, figure, ratio, low, high } of ratios) {
    console.log(`  ${name.padEnd(48)} ${ratio.toFixed(2)}  (${low.toFixed(2)} to ${high.toFixed(2)})  ${figure}`)
  }
  console.log('')
}
