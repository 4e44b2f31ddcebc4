import { moveClock, passTime } from '../../../../testing/move-clock.js'
import { KeptReadings } from '../../src/mapping/catalogue/kept-readings.js'
import { KnownCatalogue } from '../../src/mapping/catalogue/known-catalogue.js'
import { NoTurn, TurnQueue } from '../../src/sessions/sharing/turn-queue.js'

describe('callers in line for one thing', () => {
  it('who are out of time together are told one by one, and that they waited as long as they may', async () => {
    const queue = new TurnQueue(1)
    const turn = await queue.enter('row', 1_000)
    turn.tellHolders([])
    const told: number[] = []
    const errors = await Promise.all(
      Array.from({ length: 40 }, () =>
        queue.enter('row', 50).then(
          () => undefined,
          (error: unknown) => {
            told.push(performance.now())
            return error
          },
        ),
      ),
    )
    turn.leave()
    expect(errors.every((error) => error instanceof NoTurn && error.waitedMs >= 50)).toBe(true)
    // 2 ms each; told at once it would be hardly any time at all.
    expect((told.at(-1) ?? 0) - (told[0] ?? 0)).toBeGreaterThan(30)
    expect(queue.waiting).toBe(0)
  })

  it('who have hardly any time left are not let at what is held still', async () => {
    const queue = new TurnQueue(1)
    const turn = await queue.enter('row', 1_000)
    const late = queue.enter('row', 100)
    const patient = queue.enter('row', 5_000)
    turn.leave(true)
    await expect(late).rejects.toThrow(NoTurn)
    ;(await patient).leave()
    expect(queue.isCrowded('row')).toBe(false)
  })
})

describe('what is known of a catalogue', () => {
  it('has an end: the 500 tables used last are kept, and one more reads the oldest again', async () => {
    const asked: string[] = []
    const query = (_: string, [schema, name]: readonly (string | null)[] = []) => {
      asked.push(name ?? '')
      const row = { schema, name, kind: 'r', columns: [], uniques: [], references: [], referencedBy: [] }
      return Promise.resolve({ rows: [[JSON.stringify(row)]], command: 'SELECT', rowCount: 1 })
    }
    const known = new KnownCatalogue('wide', query, query, (error) => error)
    for (let at = 0; at < 501; at++) await known.table(`public.t${at}`)
    expect(asked).toHaveLength(501)
    await known.table('public.t500')
    await known.table('public.t1')
    expect(asked).toHaveLength(501)
    await known.table('public.t0')
    expect(asked).toHaveLength(502)
  })
  it('is read again after its time, though the clock of the machine was set back meanwhile', async () => {
    let columns = 1
    const kept = new KeptReadings(
      10,
      () => Promise.resolve({ columns }),
      () => ({}),
    )
    expect(await kept.get('t')).toEqual({ columns: 1 })
    columns = 2
    const setBack = [moveClock(-3_600_000)]
    expect(await kept.get('t')).toEqual({ columns: 1 })
    setBack.push(passTime(11_000))
    expect(await kept.get('t')).toEqual({ columns: 2 })
    columns = 3
    kept.forget()
    expect(await kept.get('t')).toEqual({ columns: 3 })
    setBack.forEach((undo) => undo())
  })
})
