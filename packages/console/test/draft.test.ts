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
const hours = () =>
  console.service.observatory.sql(`select hours_left from programme where code in ('P-107', 'P-112') order by code`)

async function stage(code: string, value: string) {
  await page.getByText(code, { exact: true }).click()
  await open('property-hoursLeft').locator('input').fill(value)
  await page.click('[data-test=to-draft]')
  await page.getByText(/The draft holds/).waitFor()
  await page.click('[data-test=back]')
}

it('several records are edited and committed as one, and a conflict of one of them is solved before anything is changed', async () => {
  await page.goto(`${console.service.url}/t/observatory/records/programme`)
  await stage('P-107', '14.50')
  await stage('P-112', '35.25')
  await console.service.client
    .target('observatory')
    .change('programme', ['P-112'], { hoursLeft: '20.00' }, { guard: '*' })
  await page.click('[data-test=draft]')
  await open('pending-change').nth(1).waitFor()
  await page.click('[data-test=commit]')
  await open('conflict').waitFor()
  await shows(open('conflict'), /hoursLeft\s+31\.25\s+35\.25\s+20\.00/)
  expect(await hours()).toEqual([{ hours_left: '18.50' }, { hours_left: '20.00' }])
  await page.click('[data-test=keep-mine]')
  await open('conflict').waitFor({ state: 'detached' })
  await page.click('[data-test=rehearse]')
  await page.locator('[data-outcome=rehearsed]').waitFor()
  expect(await hours()).toEqual([{ hours_left: '18.50' }, { hours_left: '20.00' }])
  await page.click('[data-test=commit]')
  await page.locator('[data-outcome=committed]').waitFor()
  expect(await hours()).toEqual([{ hours_left: '14.50' }, { hours_left: '35.25' }])
  await soon(async () => expect(await open('draft').count()).toBe(0))
})
