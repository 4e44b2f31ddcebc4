import { jest } from '@jest/globals'
import { SlotList, toStatement } from '../../src/statement/statement.js'
import { SharedStatement } from '../../src/sessions/sharing/shared-statement.js'
import { StatementsInTurn } from '../../src/sessions/sharing/statements-in-turn.js'
import type { Rows } from '../../src/sessions/queryable.js'
import type { Session } from '../../src/sessions/session-pool.js'

const statement = (() => {
  const slots = new SlotList()
  slots.add({ name: 'x', type: 'text', sensitive: false, source: { from: 'actor' } })
  return toStatement('select $1', slots)
})()
const rowsOf = (rows: (string | null)[][], command = 'SELECT'): Rows => ({ rows, command, rowCount: rows.length })
const databaseError = (code: string) => Object.assign(new Error(code), { severity: 'ERROR', code })
const lost = () => Object.assign(new Error('reset'), { code: 'ECONNRESET' })

/** Lets everything happen that does not wait for a time; time itself stands still unless it is moved. */
async function turn(): Promise<void> {
  for (let rounds = 0; rounds < 4; rounds++) await new Promise((resolve) => setImmediate(resolve))
}
beforeEach(() => {
  jest.useFakeTimers({ doNotFake: ['setImmediate', 'clearImmediate', 'nextTick', 'queueMicrotask'] })
})
afterEach(() => {
  jest.useRealTimers()
})

/** So many that they go in two halves, of six each. */
const CROWD = [...'abcdefghijkl']
const HALVES = [CROWD.slice(0, 6), CROWD.slice(6)]

/** What a caller got: their own answer, alone or together with others, or an error. */
type Got = string

describe('callers of a shared statement', () => {
  /** Statements as they were sent: the callers in each, and how to answer it. */
  let sent: { callers: string[]; answer: (leftOut?: string[]) => void; fail: (error: Error) => void }[]
  let alone: string[]
  let shared: SharedStatement

  beforeEach(() => {
    sent = []
    alone = []
    shared = makeShared(false)
  })

  function makeShared(isRead: boolean): SharedStatement {
    return new SharedStatement({
      statement,
      isRead,
      answers: (rows) => rows.length > 0,
      send: (_text, [array = '{}']) =>
        new Promise((resolve, reject) => {
          const callers = array.slice(1, -1).replaceAll('"', '').split(',')
          sent.push({
            callers,
            fail: reject,
            answer: (leftOut = []) =>
              resolve(
                rowsOf(
                  callers.flatMap((caller, at) => (leftOut.includes(caller) ? [] : [[String(at + 1), `of ${caller}`]])),
                ),
              ),
          })
        }),
    })
  }

  const ask = (caller: string, subject: string | null = null): Promise<Got> =>
    shared
      .ask({
        values: () => [caller],
        subject,
        alone: () => {
          alone.push(caller)
          return Promise.resolve([[`of ${caller} alone`]])
        },
      })
      .then(
        ([row]) => row?.[0] ?? '',
        (error: Error) => error.message,
      )

  it('go alone where nobody is beside them', async () => {
    expect(await ask('a')).toBe('of a alone')
    expect(sent).toEqual([])
  })

  it('go in two halves, those who come later behind them, and each gets their own', async () => {
    const asked = CROWD.map((each) => ask(each))
    await turn()
    expect(sent.map(({ callers }) => callers)).toEqual(HALVES)
    const late = ['m', 'n', 'o'].map((each) => ask(each))
    await turn()
    sent[1]?.answer()
    await turn()
    // One is on the way, and three are too few to go beside it, unless it takes long.
    expect(sent).toHaveLength(2)
    jest.advanceTimersByTime(6)
    await turn()
    expect(sent[2]?.callers).toEqual(['m', 'n', 'o'])
    sent[0]?.answer(['b'])
    sent[2]?.answer()
    expect(await Promise.all([...asked, ...late])).toEqual(
      [...CROWD, 'm', 'n', 'o'].map((each) => (each === 'b' ? 'of b alone' : `of ${each}`)),
    )
  })

  it('go beside others as soon as they are enough, and behind them all at once', async () => {
    const asked = ['a', 'b'].map((each) => ask(each))
    await turn()
    asked.push(...CROWD.slice(2, 7).map((each) => ask(each)))
    await turn()
    expect(sent).toHaveLength(1)
    asked.push(ask('h'))
    await turn()
    asked.push(ask('i'), ask('j'))
    await turn()
    expect(sent.map(({ callers }) => callers)).toEqual([['a', 'b'], CROWD.slice(2, 8)])
    sent.forEach(({ answer }) => answer())
    await turn()
    expect(sent[2]?.callers).toEqual(['i', 'j'])
    sent[2]?.answer()
    expect(await Promise.all(asked)).toEqual(CROWD.slice(0, 10).map((each) => `of ${each}`))
  })

  it('never go together with one of the same subject, and none is lost for it', async () => {
    const asked = ['a1', 'b1', 'a2', 'c1', 'a3', 'b2'].map((each) => ask(each, each[0]))
    for (let round = 0; round < 6; round++) {
      await turn()
      const open = sent.filter((each) => !('done' in each))
      const subjects = open.flatMap(({ callers }) => callers.map((caller) => caller[0]))
      expect(new Set(subjects).size).toBe(subjects.length)
      for (const each of open) {
        Object.assign(each, { done: true })
        each.answer()
      }
    }
    const got = await Promise.all(asked)
    expect(got.map((each) => each.replace(' alone', ''))).toEqual([
      'of a1',
      'of b1',
      'of a2',
      'of c1',
      'of a3',
      'of b2',
    ])
  })

  it('ask alone where it is refused, and so do the next eight', async () => {
    const asked = CROWD.map((each) => ask(each))
    await turn()
    sent[0]?.fail(databaseError('23505'))
    sent[1]?.answer()
    expect(await Promise.all(asked)).toEqual(CROWD.map((each, at) => (at < 6 ? `of ${each} alone` : `of ${each}`)))
    const next = Array.from({ length: 8 }, (_, at) => ask(`n${at}`))
    expect(shared.isPaused).toBe(false)
    await Promise.all(next)
    expect(alone).toHaveLength(14)
    const again = ['x', 'y', 'z'].map((each) => ask(each))
    await turn()
    expect(sent[2]?.callers).toEqual(['x', 'y', 'z'])
    sent[2]?.answer()
    expect(await Promise.all(again)).toEqual(['of x', 'of y', 'of z'])
  })

  it.each([
    ['a write', false, ['reset', 'reset']],
    ['a read', true, ['of a alone', 'of b alone']],
  ])('learn of a connection that broke in %s', async (_, isRead, expected) => {
    shared = makeShared(isRead)
    const asked = ['a', 'b', 'c'].map((each) => ask(each))
    await turn()
    sent[0]?.fail(lost())
    expect((await Promise.all(asked)).slice(0, 2)).toEqual(expected)
  })

  it('wait twenty milliseconds for others at most', async () => {
    const first = CROWD.map((each) => ask(each))
    await turn()
    const late = ['y', 'z'].map((each) => ask(each))
    jest.advanceTimersByTime(25)
    await turn()
    expect(sent[2]?.callers).toEqual(['y', 'z'])
    sent.forEach(({ answer }) => answer())
    await Promise.all([...first, ...late])
  })
})

describe('callers who take turns', () => {
  let queries: { text: string; answer: (command?: string) => void; fail: (error: Error) => void }[]
  let released: boolean[]
  let opened: number
  let openFails: boolean
  let inTurn: StatementsInTurn

  beforeEach(() => {
    queries = []
    released = []
    opened = 0
    openFails = false
    const session: Session = {
      pid: 1,
      query: (text, values = []) =>
        new Promise((resolve, reject) => {
          queries.push({
            text: values.length > 0 ? String(values[0]) : text,
            answer: (command) => resolve(rowsOf([[`of ${String(values[0])}`]], command)),
            fail: reject,
          })
        }),
      release: (destroy = false) => void released.push(destroy),
      breakOff: () => undefined,
      limitTo: () => undefined,
      takeUpTo: () => undefined,
      retire: () => undefined,
      withinBytes: (_most, work) => work(),
    }
    const open = () => {
      opened++
      return openFails ? Promise.reject(new Error('none left')) : Promise.resolve(session)
    }
    inTurn = new StatementsInTurn(statement, open, {
      lockWaitMs: 2_000,
      timeLimitMs: 50,
      idleMs: 0,
      answerBytes: 1_000_000,
    })
  })

  const ask = (caller: string): Promise<Got> =>
    inTurn.ask({ values: () => [caller], subject: null, alone: () => Promise.resolve([[`of ${caller} alone`]]) }).then(
      ([row]) => row?.[0] ?? '',
      (error: Error) => error.message,
    )
  const answerAll = () =>
    queries.splice(0).forEach(({ text, answer }) => answer(text === 'commit' ? 'COMMIT' : 'SELECT'))
  /** Answers what is the first on its way, such as BEGIN: only then the rest is sent. */
  const answerFirst = async () => {
    queries.shift()?.answer()
    await turn()
  }
  const settled = async (asked: Promise<Got>[]) => {
    const got: Got[] = []
    asked.forEach((each, at) => void each.then((value) => (got[at] = value)))
    await turn()
    return got
  }

  it('are sent one after the other between BEGIN and COMMIT, and answered once that is done', async () => {
    const asked = CROWD.map((each) => ask(each))
    await turn()
    expect(opened).toBe(1)
    expect(queries.map(({ text }) => text)).toEqual([
      expect.stringMatching(
        /^begin; set local lock_timeout = 100; select pg_catalog.pg_advisory_xact_lock\(.*lock_timeout = 20; set local statement_timeout = 50$/,
      ),
    ])
    await answerFirst()
    expect(queries.map(({ text }) => text)).toEqual([...(HALVES[0] ?? []), 'commit', expect.stringMatching(/^begin/)])
    queries.splice(0, 6).forEach(({ answer }) => answer())
    expect(await settled(asked)).toEqual([])
    answerAll()
    await turn()
    answerAll()
    expect(await Promise.all(asked)).toEqual(CROWD.map((each) => `of ${each}`))
    await turn()
    expect(released).toEqual([false])
  })

  it('each go alone where one of them is refused, and others do for a while', async () => {
    const asked = CROWD.map((each) => ask(each))
    await turn()
    await answerFirst()
    const [first, ...others] = queries.splice(0, 7)
    first?.answer()
    others.slice(0, 5).forEach(({ fail }) => fail(databaseError('P0001')))
    others[5]?.answer('ROLLBACK')
    answerAll()
    await turn()
    answerAll()
    expect(await Promise.all(asked)).toEqual(CROWD.map((each, at) => (at < 6 ? `of ${each} alone` : `of ${each}`)))
    await turn()
    expect(released).toEqual([false])
  })

  it('are told where the connection broke, and its session is not used again', async () => {
    const asked = ['a', 'b'].map((each) => ask(each))
    await turn()
    const others = ask('c')
    await answerFirst()
    while (queries.length > 0) {
      queries.splice(0).forEach(({ fail }) => fail(lost()))
      await turn()
    }
    expect(inTurn.isPaused).toBe(true)
    expect(await Promise.all(asked)).toEqual(['reset', 'reset'])
    await others
    expect(released).toContain(true)
    expect(released).not.toContain(false)
  })

  it('go alone where there is no session, or COMMIT was answered otherwise', async () => {
    openFails = true
    expect(await Promise.all(['a', 'b'].map((each) => ask(each)))).toEqual(['of a alone', 'of b alone'])
    openFails = false
    for (let paused = 0; paused < 8; paused++) await ask('x')
    const asked = [ask('c')]
    await turn()
    await answerFirst()
    queries.splice(0).forEach(({ answer }) => answer('ROLLBACK'))
    expect(await Promise.all(asked)).toEqual(['of c alone'])
    expect(released).toEqual([false])
  })
})
