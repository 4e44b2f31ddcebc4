import type { Page } from 'playwright-core'
import { openConsole, shows, soon, type OpenConsole } from './browser.js'

let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
afterAll(() => console.close())

const open = (test: string) => page.locator(`[data-test=${test}]`)
const text = (test: string) => open(test).first()

async function choose(label: string, what: string) {
  await open(`what-${label}`).locator('input[type=text]').fill(what)
  await page.locator('.v-overlay--active .v-list-item', { hasText: what }).first().click()
  await open(`${label}-code`).waitFor()
}

describe('the page of drills', () => {
  it('is reached from a transaction, and shows what each fault came to', async () => {
    await page.goto(`${console.service.url}/t/observatory/transactions/move-hours`)
    await page.click('[data-test=to-drills]')
    await open('A-hours').waitFor()
    await page.click('[data-test=drill]')
    await open('stop').click()
    await open('stop').waitFor({ state: 'detached' })
    expect(await open('report').count()).toBe(0)
    await page.click('[data-test=drill]')
    await open('faults').waitFor()
    await shows(text('verdict'), 'nothing found')
    await shows(text('faults'), /during commit, before the answer\s+committed\s+2 differ/)
    expect(await page.locator('[data-agrees=false]').count()).toBe(0)
    await open('A-to').locator('textarea').first().fill('P-999')
    await page.click('[data-test=drill]')
    await page.locator('[data-test=verdict]', { hasText: 'not drilled' }).waitFor()
    await shows(text('verdict-words'), /^Undisturbed it is refused .* matched 1: P-107/)
  })

  it('draws an anomaly as lanes, to be gone through statement by statement', async () => {
    await page.click('[data-test=tab-interleaving]')
    await choose('A', 'load and save programme')
    await choose('B', 'load and save programme')
    for (const [label, hours] of [
      ['A', '3.00'],
      ['B', '4.00'],
    ] as const) {
      await open(`${label}-code`).locator('textarea').first().fill('P-107')
      await open(`${label}-hoursLeft`).locator('textarea').first().fill(hours)
    }
    const hoursOfB = open('B-hoursLeft').locator('textarea').first()
    await hoursOfB.fill('few')
    await page.click('[data-test=drill]')
    await shows(text('problem'), /Run B: hoursLeft: expected a number/)
    await shows(text('B-hoursLeft'), /Expected a number/)
    expect(await text('A-hoursLeft').innerText()).not.toMatch(/Expected/)
    await hoursOfB.fill('4.00')
    await page.click('[data-test=guards]')
    await page.locator('.v-overlay--active .v-list-item', { hasText: 'none' }).click()
    await page.keyboard.press('Escape')
    await page.click('[data-test=drill]')
    await open('schedule').waitFor()
    await shows(text('interleavings'), /read committed\s+none\s+20\s+20\s+0\s+lost update 18/)
    await shows(text('schedule'), /B overwrote what A had committed/)
    const later = () => page.locator('.event.later').count()
    await soon(async () => expect(await later()).toBe(0))
    await page.getByLabel('One statement back').click()
    await soon(async () => expect(await later()).toBe(1))
  })

  it('goes through a run step by step, with what is pending and what is locked', async () => {
    await page.goto(`${console.service.url}/t/observatory/drills/move-hours`)
    await open('A-hours').waitFor()
    await page.click('[data-test=tab-walk]')
    await page.click('[data-test=begin]')
    for (let step = 1; step <= 4; step++)
      await page.getByRole('button', { name: `Run step ${step}`, exact: true }).click()
    await open('row-difference').waitFor()
    await shows(text('walk'), /hours_left\s+18\.50\s+→\s+14\.50/)
    await shows(text('lock'), /row programme for no key update · P-107 · P-112/)
    await page.click('[data-test=stop]')
    await open('next').waitFor({ state: 'detached' })
    expect(await console.service.observatory.sql(`select hours_left from programme where code = 'P-107'`)).toEqual([
      { hours_left: '18.50' },
    ])
  })
})
