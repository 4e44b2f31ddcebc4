import type { FailedRow, Job, JobReport } from '@ledgerman/contract'
import { startTestService, type Reply } from '../../../testing/running-service.js'

export const JOBS = '/v1/targets/observatory/jobs'

/** A job that is over, with its report. */
export type EndedJob = Job & { report: JobReport }

/** A service whose observatory has 5,000 readings to change many of, and what its jobs are asked with. */
export async function startReadingJobs() {
  const service = await startTestService()
  const sql = (text: string) => service.observatory.sql(text)
  await sql(`create table reading (id integer primary key, mark text, level numeric(8,2) not null, flag boolean, row_version integer not null default 1,
    constraint level_is_small check (level < 90000));
    insert into reading (id, mark, level, flag) select n, 'm' || n, n, n % 2 = 0 from generate_series(1, 5000) n;
    grant all on reading to ledgerman_worker`)
  await service.client.target('observatory').publishMapping(
    'reading',
    `mapping: reading
table: public.reading
key: [id]
guard: { by: version, property: rowVersion }
properties: { id: { column: id }, mark: { column: mark }, level: { column: level }, flag: { column: flag }, rowVersion: { column: row_version } }
rules: [{ that: 'level >= 0', otherwise: A level is never below zero. }]`,
  )
  return {
    service,
    sql,
    begin: (body: object) => service.request('POST', JOBS, { body, headers: { 'content-type': 'application/json' } }),
    send: (file: string | Uint8Array, query: Record<string, string>, contentType = 'text/csv') =>
      service.request('POST', `${JOBS}?${new URLSearchParams({ mode: 'commit', ...query })}`, {
        body: file,
        headers: { 'content-type': contentType },
      }),
    /** The job once it is over. */
    async ended(begun: Reply): Promise<EndedJob> {
      expect([begun.status, begun.text]).toEqual([202, expect.any(String)])
      let last: Job | undefined
      for await (const job of service.client.followJob(begun.body.id as string)) last = job
      return last as EndedJob
    },
  }
}

/** The counts of a job that are not zero. */
export function counts({ report }: EndedJob) {
  const { sample: _, rows: __, ...numbers } = report
  return Object.fromEntries(Object.entries(numbers).filter(([, count]) => count !== 0))
}

/** Where a failed row stood, which it is and why. */
export const told = (rows: FailedRow[]) => rows.map(({ line, key, code }) => [line, Object.values(key).join(), code])
