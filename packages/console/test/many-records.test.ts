import { readFileSync } from 'node:fs'
import type { Page } from 'playwright-core'
import { isDisabled, openConsole, shows, soon, type OpenConsole } from './browser.js'

let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
afterAll(() => console.close())

const open = (test: string) => page.locator(`[data-test="${test}"]`)
const sql = (text: string) => console.service.observatory.sql(text)
const job = (state: string, mode: string) => page.locator(`[data-test=job][data-mode=${mode}][data-state=${state}]`)

it('all that match a filter are changed by an expression: rehearsed, looked at, and committed exactly so', async () => {
  await page.goto(
    `${console.service.url}/t/observatory/records/programme?where=${encodeURIComponent("semester = '2026B' and hoursLeft > 20")}`,
  )
  await page.click('[data-test=change-all]')
  await open('assignment').waitFor()
  await open('assigned').click()
  await page.locator('.v-list-item', { hasText: 'hoursLeft' }).last().click()
  await page.fill('[data-test=expression] input', 'hoursLeft - 0.5')
  // Nothing is set twice: what one line sets, another does not offer.
  await page.click('[data-test=add-property]')
  await open('assigned').last().click()
  const offered = await page.locator('.v-overlay--active .v-list-item').allInnerTexts()
  expect([offered.includes('priority'), offered.includes('hoursLeft')]).toEqual([true, false])
  await page.keyboard.press('Escape')
  await page.locator('[aria-label="Leave this property"]').last().click()
  const before = await sql(
    `select count(*)::int as n, sum(hours_left)::text as hours from programme where semester = '2026B' and hours_left > 20`,
  )
  await isDisabled(open('commit'))
  await page.click('[data-test=rehearse]')
  await job('done', 'rehearse').waitFor()
  await shows(open('count-matched'), `matched ${before[0]?.['n']}`)
  await shows(open('differences'), /P-1\d\d\s+\d+\.\d+ → \d+\.\d+/)
  expect(await sql(`select count(*)::int as n from programme where row_version > 1`)).toEqual([{ n: 0 }])
  await page.click('[data-test=commit]')
  await job('done', 'commit').waitFor()
  const changed = Number(before[0]?.['n'])
  expect(
    await sql(`select count(*)::int as n, sum(hours_left)::text as hours from programme where row_version = 2`),
  ).toEqual([{ n: changed, hours: (Number(before[0]?.['hours']) - changed / 2).toFixed(2) }])
})

it('all that match get a list, typed an entry at a time', async () => {
  await page.goto(
    `${console.service.url}/t/observatory/change-all/programme?where=${encodeURIComponent("code = 'P-103'")}`,
  )
  for (const [select, item] of [
    ['assigned', 'tags'],
    ['by', 'value'],
  ] as const) {
    await open(select).click()
    await page.locator('.v-overlay--active .v-list-item', { hasText: new RegExp(`^${item}$`) }).click()
  }
  for (const typed of ['faint', 'two words']) {
    await page.fill('[data-test=property-tags] input:not([type=hidden])', typed)
    await page.keyboard.press('Enter')
  }
  await page.click('[data-test=rehearse]')
  await job('done', 'rehearse').waitFor()
  await soon(async () => expect(await open('differences').innerText()).toContain('→ ["faint","two words"]'))
})

it('a filter that leaves no record out is refused, until somebody says that every one is meant', async () => {
  await page.goto(
    `${console.service.url}/t/observatory/change-all/telescope?where=${encodeURIComponent('apertureM > 0')}`,
  )
  await open('assigned').click()
  await page.locator('.v-overlay--active .v-list-item', { hasText: /^name$/ }).click()
  await page.fill('[data-test=expression] input', `name || '!'`)
  await page.click('[data-test=rehearse]')
  await job('failed', 'rehearse').waitFor()
  await page.locator('[data-test=every-row] input').check()
  await page.click('[data-test=rehearse]')
  await job('done', 'rehearse').waitFor()
  await shows(open('count-matched'), /matched \d/)
})

it('all rows of a large change are saved from its entry as a file', async () => {
  const target = console.service.client.target('observatory')
  const change = { change: 'exposure', where: 'id <= 150', compute: { seconds: 'seconds + 1' }, expect: 150 }
  const { id } = await target.run({ mode: 'commit', steps: [change] })
  await page.goto(`${console.service.url}/t/observatory/book/${id}`)
  const [saved] = await Promise.all([page.waitForEvent('download'), page.click('[data-test=all-rows]')])
  const lines = readFileSync(await saved.path(), 'utf8')
    .trimEnd()
    .split('\r\n')
  expect([saved.suggestedFilename(), lines.length]).toEqual([`${id}.csv`, 151])
})

it('a file is understood before it is sent, refused with its lines, and applied in chunks but for those', async () => {
  await page.goto(`${console.service.url}/t/observatory/from-file/programme`)
  const send = (text: string) =>
    page.setInputFiles('[data-test=file]', { name: 'corrections.csv', mimeType: 'text/csv', buffer: Buffer.from(text) })
  await send('code,levle\nP-101,1\n')
  await shows(open('preview'), /levle\s+not a property of programme/)
  await isDisabled(open('rehearse'))
  await send('code,hours_left\nP-101,1\n')
  await shows(open('preview'), /hours_left\s+not a property of programme: is hoursLeft meant\?/)
  await send('code,hoursLeft\nP-101,1.25\nP-999,1\nP-102,2.25\n')
  await page.getByText('sets numeric(6,2)').waitFor()
  await page.click('[data-test=rehearse]')
  await job('failed', 'rehearse').waitFor()
  await shows(open('not-applied'), /3\s+P-999\s+There is no such programme\./)
  await page.fill('[data-test=chunk] input', '2')
  await page.click('[data-test=rehearse]')
  await job('done', 'rehearse').waitFor()
  await page.click('[data-test=commit]')
  await job('done', 'commit').waitFor()
  expect(
    await sql(`select code, hours_left::text from programme where code in ('P-101', 'P-102') order by code`),
  ).toEqual([
    { code: 'P-101', hours_left: '1.25' },
    { code: 'P-102', hours_left: '2.25' },
  ])
  await page.goto(`${console.service.url}/t/observatory/jobs`)
  await open('jobs').locator('tbody tr').first().waitFor()
  await shows(open('jobs'), /done\s+programme from a file\s+2\s+2/)
  await open('jobs').locator('tbody tr').first().click()
  await page.getByText('Committed, but for some rows').waitFor()
})
