import { chownSync, mkdtempSync, readFileSync, rmSync, statSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { prepareBook, Target } from '@ledgerman/core'
import { findFreePort, removeCluster, startCluster } from '@ledgerman/local'
import { makeCertificate } from '../../../../testing/certificate.js'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

const PAGE = readFileSync(join(import.meta.dirname, '../../../../docs/own-database.md'), 'utf8')
const [targetRole = '', homeRole = '', revoke = ''] = [...PAGE.matchAll(/```sql\n([\s\S]*?)```/g)].map(
  ([, sql]) => sql ?? '',
)

describe('a database of one’s own', () => {
  let survey: TestDatabase
  let service: RunningService
  const named = (sql: string) =>
    sql
      .replaceAll('database survey', `database ${survey.name}`)
      .replaceAll('ledgerman_survey', `survey_${survey.name}`)
      .replaceAll('ledgerman_home', `home_${survey.name}`)
  const roleUrl = (role: string, password: string) =>
    Object.assign(new URL(survey.ownerUrl), { username: `${role}_${survey.name}`, password }).toString()

  beforeAll(async () => {
    survey = await makeDatabase()
    await survey.sql(
      `create table plate (id integer generated always as identity primary key, label text not null, secret_note text); insert into plate (label) values ('first')`,
    )
    await survey.sql(named(targetRole))
    await survey.sql(named(homeRole))
    service = await startTestService({
      extraTargets: { survey: roleUrl('survey', 'choose-one'), owned: survey.ownerUrl },
    })
  })
  afterAll(async () => {
    await service.stop()
    await survey.sql(
      `drop owned by survey_${survey.name} cascade; drop owned by home_${survey.name} cascade; drop role survey_${survey.name}; drop role home_${survey.name}`,
    )
    await survey.drop()
  })

  it('works with the roles of the docs, and gets one schema and nothing else', async () => {
    const objects = () =>
      survey.sql(
        `select n.nspname, c.relname from pg_class c join pg_namespace n on n.oid = c.relnamespace where n.nspname not like 'pg\\_%' and n.nspname not in ('information_schema', 'ledgerman') order by 1, 2`,
      )
    const before = await objects()
    const target = service.client.target('survey')
    const derived = await target.deriveMapping('public', 'plate')
    await target.publishMapping('plate', derived.source)
    const { guard } = await target.load('plate', ['1'])
    expect(
      (await target.change('plate', ['1'], { label: 'rehearsed' }, { mode: 'rehearse', guard: guard ?? '' })).receipt
        .outcome,
    ).toBe('rehearsed')
    await expect(target.change('plate', ['1'], { label: 'x' }, { guard: guard ?? '' })).rejects.toMatchObject({
      code: 'book-not-prepared',
    })
    // By several at once, in sessions that have looked for it before: one prepares it, and for the others it is harmless.
    const own = new Target({ name: 'survey', url: roleUrl('survey', 'choose-one'), digestKey: Buffer.from('k') })
    const four = Array.from({ length: 4 })
    const sessions = await Promise.all(four.map(() => own.session()))
    for (const session of sessions) await session.query(`select to_regclass('ledgerman.book')`)
    for (const session of sessions) session.release()
    const prepared = await Promise.all([...four.map(() => prepareBook(own)), target.prepareBook()])
    await own.close()
    expect(prepared.filter(({ prepared }) => prepared === 'now')).toHaveLength(1)
    expect(prepared.flatMap(({ created }) => created)).toContain('schema ledgerman')
    await survey.sql(named(revoke))
    expect((await target.change('plate', ['1'], { label: 'second' }, { guard: guard ?? '' })).receipt.outcome).toBe(
      'committed',
    )
    expect(await objects()).toEqual(before)
  })

  it('keeps its home with the role of the docs, whatever form its moments have there', async () => {
    await survey.sql(`alter database ${survey.name} set DateStyle = 'German, DMY'`)
    const { HomeDatabase } = await import('../../src/home/home-database.js')
    const home = new HomeDatabase(roleUrl('home', 'choose-another'), 2, () => undefined)
    await home.setUp()
    await home.setUp()
    expect(await home.digestKey()).toHaveLength(32)
    const [step] = await home.query<{ done_at: Date }>(
      'select done_at from ledgerman_home.step order by number limit 1',
    )
    expect(step?.done_at.getTime()).toBeGreaterThan(Date.now() - 60_000)
    await home.close()
  })

  it('says why its home cannot be used, to who starts it and in the log', async () => {
    const { HomeDatabase } = await import('../../src/home/home-database.js')
    const told: string[][] = []
    const home = new HomeDatabase(roleUrl('home', 'wrong'), 2, (...trouble) => told.push(trouble))
    try {
      await expect(home.setUp()).rejects.toThrow(/\(home\.url .*\) cannot be used: password authentication failed/)
      // Callers are not told, and the log has it once.
      await expect(home.query('select 1')).rejects.toMatchObject({ detail: expect.not.stringContaining('password') })
      expect(told).toEqual([['home database cannot be used', expect.stringContaining('password')]])
    } finally {
      await home.close()
    }
  })

  it('warns of a role that nothing holds back', async () => {
    const targets = await service.client.targets()
    expect(targets.find(({ name }) => name === 'owned')?.warnings.join()).toMatch(/is a superuser/)
    expect(targets.find(({ name }) => name === 'survey')?.warnings).toEqual([])
    expect(service.logLines.join()).toMatch(/target warning/)
  })

  it('says what a role may not do', async () => {
    await survey.sql(
      `create table sealed (id integer primary key, note text); insert into sealed values (1, 'a'); grant select on sealed to survey_${survey.name}`,
    )
    const target = service.client.target('survey')
    await target.publishMapping('sealed', (await target.deriveMapping('public', 'sealed')).source)
    await expect(target.change('sealed', ['1'], { note: 'b' }, { guard: '*' })).rejects.toMatchObject({
      code: 'target-denied',
      message: expect.stringMatching(/permission denied for table sealed/) as unknown,
    })
    await target.prepareBook()
    await survey.sql(`revoke select on ledgerman.book from survey_${survey.name}`)
    const denied = await target.prepareBook().catch((error: unknown) => (error as Error).message)
    expect(denied).toMatch(/permission denied for table book\. Grant it/)
  })
})

describe('TLS', () => {
  it('is checked against the certificate that the address names', async () => {
    const dataDir = mkdtempSync(join(tmpdir(), 'ledgerman-tls-'))
    const { key, certificate } = makeCertificate(dataDir)
    const plain = await startCluster({ dataDir, port: await findFreePort() })
    await plain.stop()
    if (process.getuid?.() === 0)
      chownSync(key, statSync(join(dataDir, 'postgres')).uid, statSync(join(dataDir, 'postgres')).gid)
    const cluster = await startCluster({
      dataDir,
      port: await findFreePort(),
      settings: { ssl: 'on', ssl_key_file: key, ssl_cert_file: certificate },
    })
    const address = (parameters: string) =>
      `${cluster.adminUrl('postgres').replace('127.0.0.1', 'localhost')}?${parameters}`
    const prepare = async (url: string) => {
      const target = new Target({ name: 'tls', url, digestKey: Buffer.from('k') })
      const done = await prepareBook(target).then(
        ({ prepared }) => prepared,
        (error: unknown) => (error as { code: string }).code,
      )
      const [[encrypted] = []] =
        done === 'target-unavailable'
          ? []
          : (await target.query('select ssl from pg_stat_ssl where pid = pg_backend_pid()')).rows
      await target.close()
      return { done, encrypted }
    }
    expect(await prepare(address('sslmode=verify-full'))).toEqual({ done: 'target-unavailable', encrypted: undefined })
    expect(await prepare(address(`sslmode=verify-full&sslrootcert=${certificate}`))).toEqual({
      done: 'now',
      encrypted: 't',
    })
    expect(await prepare(address('sslmode=no-verify'))).toEqual({ done: 'already', encrypted: 't' })
    expect(await prepare(address('sslmode=disable'))).toEqual({ done: 'already', encrypted: 'f' })
    await cluster.stop()
    removeCluster(dataDir)
    rmSync(dataDir, { recursive: true, force: true })
  })
})
