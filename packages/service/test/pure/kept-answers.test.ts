import { jest } from '@jest/globals'
import { KeptAnswers } from '../../src/home/kept-answers.js'

// What the home database said holds for a moment: who asks must neither wait for others, nor hear what is out of date.
const KEEP_MS = 600

// The clock is moved by hand: what a busy machine takes for a pause of a second is anything.
beforeEach(() => void jest.useFakeTimers())
afterEach(() => void jest.useRealTimers())
const delay = (ms: number) => jest.advanceTimersByTimeAsync(ms)

function asking() {
  let asked = 0
  const kept = new KeptAnswers<number>(10, KEEP_MS)
  const ask = () => new Promise<number>((resolve) => setTimeout(() => resolve(++asked), 20))
  return {
    kept,
    begin: () => kept.get('key', ask),
    async get() {
      const answer = this.begin()
      await delay(20)
      return answer
    },
    get asked() {
      return asked
    },
  }
}

describe('answers that are kept', () => {
  it('are asked for once by all who want to know, and anew before their time is over', async () => {
    const answers = asking()
    expect(await Promise.all([answers.get(), answers.get(), answers.get()])).toEqual([1, 1, 1])
    await delay(KEEP_MS * 0.6)
    expect(await answers.get()).toBe(1)
    await delay(40)
    expect(await answers.get()).toBe(2)
    await delay(KEEP_MS)
    expect(await answers.get()).toBe(3)
  })

  it('are forgotten for good, whatever was on its way when they were', async () => {
    const answers = asking()
    await answers.get()
    await delay(KEEP_MS * 0.6)
    await answers.begin()
    answers.kept.delete('key')
    await delay(40)
    expect(answers.asked).toBe(2)
    expect(await answers.get()).toBe(3)
  })

  it('are none where asking failed', async () => {
    const kept = new KeptAnswers<number>(10, KEEP_MS)
    await expect(kept.get('key', () => Promise.reject(new Error('away')))).rejects.toThrow('away')
    expect(await kept.get('key', () => Promise.resolve(1))).toBe(1)
  })
})
