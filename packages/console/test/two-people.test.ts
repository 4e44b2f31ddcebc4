import type { Page } from 'playwright-core'
import { openConsole, shows, type OpenConsole } from './browser.js'

let console: OpenConsole
let one: Page
let other: Page

beforeAll(async () => {
  console = await openConsole()
  one = await console.person()
  other = await console.person()
})
afterAll(() => console.close())

const field = (page: Page, name: string) =>
  page.locator(`[data-test=property-${name}] :is(input, textarea:not([readonly]))`)

describe('two people', () => {
  it('edit one record; the second solves the conflict by property, and nothing of the first is lost', async () => {
    const path = `${console.service.url}/t/observatory/records/programme/P-118`
    await Promise.all([one.goto(path), other.goto(path)])
    await Promise.all([field(one, 'hoursLeft').waitFor(), field(other, 'hoursLeft').waitFor()])
    await field(one, 'hoursLeft').fill('7.00')
    await field(one, 'semester').fill('2027A')
    await one.click('[data-test=commit]')
    await one.locator('[data-outcome=committed]').waitFor()
    await field(other, 'hoursLeft').fill('9.00')
    await field(other, 'title').fill('Seen twice')
    await other.click('[data-test=commit]')
    await other.locator('[data-test=conflict]').waitFor()
    await shows(other.locator('[data-test=conflict-words]'), /What you set was changed meanwhile as well: hoursLeft/)
    await shows(other.locator('[data-test=conflict-semester]'), /2027A/)
    await other.click('[data-test=keep-current-hoursLeft]')
    await other.click('[data-test=solve]')
    await other.locator('[data-outcome=rehearsed]').waitFor()
    await shows(other.locator('[data-test=difference]').first(), /title[\s\S]*Seen twice/)
    await other.click('[data-test=commit]')
    await other.locator('[data-outcome=committed]').waitFor()
    const rows = await console.service.observatory.sql(
      `select title, semester, hours_left from programme where code = 'P-118'`,
    )
    expect(rows).toEqual([{ title: 'Seen twice', semester: '2027A', hours_left: '7.00' }])
  })

  it('see who waits for whom, and end the one who forgot', async () => {
    await console.service.client.target('observatory').stage({ what: 'idle', seconds: 20, code: 'P-119' })
    await one.goto(`${console.service.url}/t/observatory/waits`)
    await one.locator('[data-test=waits-picture] .session.root').waitFor()
    const root = (await console.service.client.target('observatory').waits()).sessions[0]
    await one.click(`[data-test=end-${root?.pid}]`)
    await one.click('[data-test=confirm-end]')
    await one.getByText('Nobody waits for a lock.').waitFor()
    await shows(one.getByText(/admin ended/), /forgotten-shell/)
  })
})
