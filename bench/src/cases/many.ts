import { randomUUID } from 'node:crypto'
import { execFile } from 'node:child_process'
import { createReadStream, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { promisify } from 'node:util'
import type pg from 'pg'
import { LedgermanClient } from '@ledgerman/client'
import { mappingDefinition, type Images, type JobInput, type MappingDefinition } from '@ledgerman/contract'
import {
  resolveFilterJob,
  resolveMapping,
  reverseEntries,
  runFilterJob,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import { compareTimes, type Ratio } from '../compare.js'

const execute = promisify(execFile)

/** Where the cases that go through the service find it, and the same database for `psql`. */
export interface ManyServers {
  ours: string
  token: string
  targetUrl: string
}

/** A table of which one numeric column is changed in many rows. */
function reading(rows: number): MappingDefinition {
  const columns = ['id', 'level', 'mark'].map((name) => [name, { column: name }] as const)
  return mappingDefinition.parse({
    mapping: `reading_${rows}`,
    table: `public.reading_${rows}`,
    key: ['id'],
    guard: { by: 'version', property: 'rowVersion' },
    properties: Object.fromEntries([...columns, ['rowVersion', { column: 'row_version' }]]),
  })
}

async function makeReadings(target: Target, pool: pg.Pool, rows: number): Promise<Mapping> {
  const definition = reading(rows)
  await pool.query(
    `create table if not exists ${definition.mapping} (id integer primary key, level numeric(10,2) not null, mark text not null, row_version integer not null default 1)`,
  )
  await pool.query(
    `insert into ${definition.mapping} select n, n % 1000, 'mark ' || n, 1 from generate_series(1, ${rows}) n on conflict do nothing`,
  )
  await pool.query(`vacuum analyze ${definition.mapping}`)
  target.forgetCatalogue()
  return resolveMapping(definition, 1, await target.table(definition.table))
}

const REQUEST = {
  mode: 'commit' as const,
  actor: 'bench',
  note: null,
  timeLimitMs: 600_000,
  signal: new AbortController().signal,
  onProgress: () => undefined,
}

/** @returns the entry that it left */
async function runJob(target: Target, mapping: Mapping, asked: Partial<JobInput>): Promise<string> {
  const input = {
    mode: 'commit',
    mapping: mapping.name,
    compute: { level: 'level + 1' },
    expect: 'any',
    everyRow: true,
    images: 'changed',
    ...asked,
  }
  const job = await resolveFilterJob(target, input as JobInput, () => Promise.resolve(mapping))
  const { entry } = await runFilterJob(target, job, { ...REQUEST, job: randomUUID() })
  return entry ?? ''
}

/** One column of all rows, to the same UPDATE without a book; what the book takes stands behind. */
export async function compareFiltered(target: Target, pool: pg.Pool, rows: number, rounds: number): Promise<Ratio[]> {
  const mapping = await makeReadings(target, pool, rows)
  const after = () => pool.query(`vacuum ${mapping.name}`)
  const job = (images: Images) => () => runJob(target, mapping, { images })
  const ratios = await compareTimes(
    [
      {
        name: 'plain UPDATE, no book',
        once: () => pool.query(`update ${mapping.name} set level = level + 1, row_version = row_version + 1`),
        after,
      },
      { name: 'a job, images: changed', once: job('changed'), after },
      { name: 'a job, images: none', once: job('none'), after },
    ],
    rounds,
  )
  const { rows: sizes } = await pool.query<{ bytes: string; rows: string }>(
    `select pg_total_relation_size('ledgerman.image_block') as bytes, (select sum(rows) from ledgerman.image_block) as rows`,
  )
  const bytes = Number(sizes[0]?.bytes) / Number(sizes[0]?.rows)
  return [
    ...ratios,
    { name: 'bytes of book a changed row', figure: `${sizes[0]?.rows} rows`, ratio: bytes, low: bytes, high: bytes },
  ]
}

/** Putting a change of all rows back, to that change. */
export async function compareReversal(target: Target, pool: pg.Pool, rows: number, rounds: number): Promise<Ratio[]> {
  const mapping = await makeReadings(target, pool, rows)
  const after = () => pool.query(`vacuum ${mapping.name}`)
  const change = () => runJob(target, mapping, {})
  // One more than is put back, since the order of the two turns.
  const entries = [await change()]
  await after()
  return compareTimes(
    [
      { name: 'a job, images: changed', once: async () => entries.push(await change()), after },
      {
        name: 'its reversal, with images of its own',
        once: () =>
          reverseEntries(target, [entries.pop() ?? ''], () => Promise.resolve(mapping), {
            ...REQUEST,
            onlyUnchanged: false,
          }),
        after,
      },
    ],
    rounds,
  )
}

/** Updates one by one, each awaited, as a loop does it. */
export async function compareLoop(target: Target, pool: pg.Pool, rows: number): Promise<Ratio[]> {
  const mapping = await makeReadings(target, pool, rows)
  const after = () => pool.query(`vacuum ${mapping.name}`)
  const loop = async () => {
    const { rows: all } = await pool.query<{ id: number; row_version: number; level: string }>(
      `select id, row_version, level from ${mapping.name}`,
    )
    for (const { id, row_version, level } of all)
      await pool.query(
        `update ${mapping.name} set level = $1, row_version = row_version + 1 where id = $2 and row_version = $3`,
        [String(Number(level) + 1), id, row_version],
      )
  }
  return compareTimes(
    [
      { name: 'a job, images: changed', once: () => runJob(target, mapping, {}), after },
      { name: 'a loop of awaited updates, no audit', once: loop, after },
    ],
    2,
  )
}

/** A file through the service, to COPY into a temporary table and one UPDATE in `psql`. */
export async function compareFile(servers: ManyServers, target: Target, pool: pg.Pool, rows: number): Promise<Ratio[]> {
  const mapping = await makeReadings(target, pool, rows)
  const client = await publish(servers, mapping)
  const folder = mkdtempSync(join(tmpdir(), 'ledgerman-bench-'))
  let turn = 0
  const write = () => {
    const file = join(folder, 'file.csv')
    turn++
    writeFileSync(
      file,
      `id,level\n${Array.from({ length: rows }, (_, at) => `${at + 1},${((at * 7 + turn) % 9000) + 0.25}`).join('\n')}\n`,
    )
    return file
  }
  let file = write()
  const after = async () => {
    await pool.query(`vacuum ${mapping.name}`)
    file = write()
  }
  try {
    return await compareTimes(
      [
        {
          name: 'psql: \\copy, then one UPDATE',
          once: () =>
            execute('psql', [
              servers.targetUrl,
              '-qc',
              'create temp table given (id integer, level numeric(10,2))',
              '-c',
              `\\copy given from '${file}' csv header`,
              '-c',
              `update ${mapping.name} t set level = g.level, row_version = t.row_version + 1 from given g where g.id = t.id`,
            ]),
          after,
        },
        {
          name: 'a file through the service, with images',
          once: async () => {
            const job = await client
              .target('bench')
              .beginFileJob(createReadStream(file), 'csv', { mapping: mapping.name, mode: 'commit' })
            for await (const { state, problem } of client.followJob(job.id))
              if (state === 'failed') throw new Error(problem?.detail)
          },
          after,
        },
      ],
      5,
    )
  } finally {
    rmSync(folder, { recursive: true, force: true })
  }
}

/** All rows as CSV through the service, to `\copy … to` in `psql`; and the most memory that the service took meanwhile. */
export async function compareExport(
  servers: ManyServers,
  target: Target,
  pool: pg.Pool,
  rows: number,
): Promise<Ratio[]> {
  const mapping = await makeReadings(target, pool, rows)
  const client = await publish(servers, mapping)
  const folder = mkdtempSync(join(tmpdir(), 'ledgerman-bench-'))
  const idle = await memoryOf(servers)
  let most = idle
  const watching = setInterval(() => void memoryOf(servers).then((now) => (most = Math.max(most, now))), 200)
  try {
    const ratios = await compareTimes(
      [
        {
          name: 'psql: \\copy to a file',
          once: () =>
            execute('psql', [
              servers.targetUrl,
              '-qc',
              `\\copy (select id, level, mark, row_version from ${mapping.name} order by id) to '${join(folder, 'theirs.csv')}' csv header`,
            ]),
        },
        {
          name: 'an export through the service',
          once: async () => {
            let bytes = 0
            for await (const text of client.target('bench').export(mapping.name, {}, 'csv')) bytes += text.length
            if (bytes < rows) throw new Error('the export is not whole')
          },
        },
      ],
      3,
    )
    const grown = (most - idle) / 1024 / 1024
    return [
      ...ratios,
      {
        name: 'MB of memory above idle',
        figure: `idle ${(idle / 1024 / 1024).toFixed(0)} MB`,
        ratio: grown,
        low: grown,
        high: grown,
      },
    ]
  } finally {
    clearInterval(watching)
    rmSync(folder, { recursive: true, force: true })
  }
}

/** A job that goes on and on, for what others notice of it. @returns what ends it */
export async function keepChanging(target: Target, pool: pg.Pool, rows: number): Promise<() => Promise<void>> {
  const mapping = await makeReadings(target, pool, rows)
  let isOver = false
  const going = (async () => {
    while (!isOver) await runJob(target, mapping, {})
  })()
  return async () => {
    isOver = true
    await going
    await pool.query(`vacuum ${mapping.name}`)
  }
}

async function publish({ ours, token }: ManyServers, { name, definition }: Mapping): Promise<LedgermanClient> {
  const client = new LedgermanClient({ url: ours, token, timeLimitMs: 600_000 })
  await client.target('bench').publishMapping(name, JSON.stringify(definition))
  return client
}

async function memoryOf({ ours }: ManyServers): Promise<number> {
  const text = await (await fetch(`${ours}/metrics`)).text()
  return Number(/^process_resident_memory_bytes (\S+)/m.exec(text)?.[1] ?? 0)
}
