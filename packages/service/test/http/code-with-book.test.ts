import pg from 'pg'
import { compileCode } from '../../../../testing/compiled-code.js'
import { startTestService } from '../../../../testing/running-service.js'
import { rowsOf } from '../observatory-rows.js'

describe('code', () => {
  it('that was written with a book writes entries that the service reads, tells and puts back like its own', async () => {
    const fresh = await startTestService()
    const desk = fresh.client.target('observatory')
    const written = await desk.code({
      mappings: ['programme', 'telescope', 'calibration'],
      transactions: ['move-hours', 'close-semester'],
      book: true,
    })
    const booked = await compileCode(written)
    const own = new pg.Pool({ connectionString: fresh.observatory.ownerUrl, max: 4 })
    const { module } = booked
    const [kept] = await fresh.home.sql(`select value from ledgerman_home.setting where name = 'digest-key'`)
    try {
      module.configureBook({ actor: 'night-desk', digestKey: Buffer.from(String(kept?.['value']), 'hex') })
      const before = await rowsOf(fresh.observatory)
      const since = new Date().toISOString()
      const loaded = await module.loadProgramme(own, { code: 'P-110' })
      const changed = await module.changeProgramme(own, loaded, {
        hoursLeft: '0.50',
        contactEmail: loaded.record.contactEmail,
      })
      await module.changeProgramme(own, loaded, { hoursLeft: '0.25' }).catch(() => undefined)
      await module.changeProgramme(own, changed, { hoursLeft: '9999' }).catch(() => undefined)
      await module.asActor(
        'day-desk',
        () => module.addTelescope(own, { code: 'HF9', name: "Nine's", apertureM: '1.5' }),
        'a new one',
      )
      const nine = await module.loadTelescope(own, { code: 'HF9' })
      await module.removeTelescope(own, nine)
      const [dark] = await module.findCalibration(own, { kind: 'dark' }, { limit: 1 })
      await module.changeCalibration(own, dark, { frames: dark.record.frames + 1 })
      await module.moveHours(own, { from: 'P-112', to: 'P-110', hours: '12' })
      await module.moveHours(own, { from: 'P-112', to: 'P-110', hours: '99999' }).catch(() => undefined)
      const { entries } = await desk.entries({ from: since, limit: 50 })
      expect(
        entries.map(({ actor, outcome, kind, mapping, transaction, changed: rows, problem, note }) => [
          actor,
          outcome,
          kind,
          mapping ?? transaction,
          rows,
          problem ?? note,
        ]),
      ).toEqual([
        ['night-desk', 'refused', 'run', 'move-hours', 0, 'rule-broken'],
        ['night-desk', 'committed', 'run', 'move-hours', 3, null],
        ['night-desk', 'committed', 'change', 'calibration', 1, null],
        ['night-desk', 'committed', 'remove', 'telescope', 1, null],
        ['day-desk', 'committed', 'add', 'telescope', 1, 'a new one'],
        ['night-desk', 'refused', 'change', 'programme', 0, 'constraint-broken'],
        ['night-desk', 'refused', 'change', 'programme', 0, 'record-changed'],
        ['night-desk', 'committed', 'change', 'programme', 1, null],
      ])
      const run = (await desk.entry(entries[1]?.id ?? '')).receipt
      expect(run.steps.map(({ kind, matched, changed: rows, skipped }) => [kind, matched, rows, skipped])).toEqual([
        ['load', 2, 0, false],
        ['load', 1, 0, false],
        ['require', 1, 0, false],
        ['change', 1, 1, false],
        ['change', 1, 1, false],
        ['add', 1, 1, false],
      ])
      expect(run.steps[3]?.rows[0]?.key).toEqual({ code: 'P-112' })
      const { history } = await desk.history('programme', ['P-110'], { property: 'hoursLeft' })
      expect(history.slice(0, 2).map(({ kind, changes }) => [kind, changes[0]?.after])).toEqual([
        ['changed', '12.50'],
        ['changed', '0.50'],
      ])
      expect(history.filter(({ kind }) => kind === 'outside')).toEqual([])
      expect(await desk.book.verify()).toMatchObject({ ok: true })
      await desk.reverseSince({ mode: 'commit', since })
      const plain = (rows: Record<string, unknown>[]) => rows.map(({ r }) => ({ ...(r as object), row_version: 0 }))
      expect(plain(await rowsOf(fresh.observatory))).toEqual(plain(before))
      // A book of an earlier version is named as what it is.
      await fresh.observatory.sql('alter table ledgerman.statement drop column short')
      const other = await module.loadCalibration(own, dark.record)
      await expect(module.changeCalibration(own, other, { note: 'none' })).rejects.toThrow(/ledgerman book prepare/)
    } finally {
      await own.end()
      await fresh.stop()
      booked.remove()
    }
  })
})
