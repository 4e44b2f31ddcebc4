import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import type { Page } from 'playwright-core'
import { unzipSync, strFromU8 } from 'fflate'
import { openConsole, shows, type OpenConsole } from './browser.js'

// Code that is taken away, code that is brought, and what became of a record.
let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
afterAll(() => console.close())

const open = (test: string) => page.locator(`[data-test="${test}"]`)
const go = (path: string) => page.goto(`${console.service.url}/t/observatory/${path}`)

it('written code is chosen, read, and downloaded as it is written elsewhere', async () => {
  await go('code')
  await page.locator('[data-test=file]', { hasText: 'move-hours.ts' }).click()
  await page.locator('[data-test=code]', { hasText: 'export interface MoveHoursParams' }).waitFor()
  await page.getByLabel('sky', { exact: false }).first().uncheck()
  await page.locator('[data-test=file]', { hasText: 'sky-feed.ts' }).waitFor({ state: 'detached' })
  const [download] = await Promise.all([page.waitForEvent('download'), page.click('[data-test=download]')])
  const files = unzipSync(readFileSync(await download.path()))
  const [mine] = (await console.service.client.target('observatory').code({ mappings: ['programme'] })).filter(
    ({ path }) => path === 'programme.ts',
  )
  expect(download.suggestedFilename()).toBe('observatory-code.zip')
  expect(strFromU8(files['programme.ts'] as Uint8Array)).toBe(mine?.text)
  expect(Object.keys(files)).not.toContain('sky-feed.ts')
  await page.getByLabel('writes to the book').check()
  await page.locator('[data-test=file]', { hasText: 'book.ts' }).waitFor()
  await page.locator('[data-test=code]', { hasText: `import * as b from './book.js'` }).waitFor()
})

it("code of one's own is dropped, and what is wrong stands beside its lines", async () => {
  await go('review')
  await page.setInputFiles('[data-test=files]', join(import.meta.dirname, '../../../examples/review/desk.py'))
  await open('summary').waitFor()
  await shows(open('summary'), /^4 statements · 5 errors · \d warnings$/)
  const finding = page.locator('[data-test=finding]', { hasText: 'no tuple' })
  await shows(finding, /error\s+parameter-count\s+line 15/)
  await finding.click()
  await shows(page.locator('.cm-activeLine'), /where family_name = %s/)
  await page.locator('.cm-lint-marker-error').first().waitFor()
  // What is put right is found right.
  await page.locator('.cm-content').fill('delete from exposure where id = 1')
  await page.click('[data-test=review]')
  await page.getByText('Nothing was found').waitFor()
})

it('a finding is put right with one click, and a function adopted as a transaction', async () => {
  await go('review')
  await page.locator('.cm-content').fill('update block set assigned_to = 3 where slot = null and id = 5')
  await page.click('[data-test=review]')
  await page.locator('[data-test=put-right]').first().click()
  await page.locator('.cm-content', { hasText: 'slot is null and id = 5' }).waitFor()
  await page.locator('[data-test=finding]', { hasText: 'null-comparison' }).waitFor({ state: 'detached' })
  await page.click('[data-test=adopt]')
  const adopted = open('adoption')
  await adopted.locator('pre', { hasText: 'change: block' }).waitFor()
  await page.click('[data-test=publish-adopted]')
  await adopted.getByText('published: open it').waitFor()
  expect((await console.service.client.target('observatory').transactions()).map(({ name }) => name)).toContain(
    'line-1',
  )
})

it('a record is shown as it was once something was done to it', async () => {
  const target = console.service.client.target('observatory')
  for (const hoursLeft of ['14.50', '12.25'])
    await target.change('programme', ['P-107'], { hoursLeft }, { mode: 'commit', guard: '*', note: `to ${hoursLeft}` })
  await go('records/programme/P-107')
  const older = page.locator('[data-test=event]', { hasText: 'to 14.50' })
  await shows(older, /hoursLeft\s+18\.50\s+→\s+14\.50/)
  await older.locator('[data-test=show-as-of]').click()
  await open('as-of').locator('tr.other', { hasText: 'hoursLeft' }).waitFor()
  await shows(open('as-of').locator('tr.other', { hasText: 'hoursLeft' }), /14\.50/)
  expect(await open('as-of').locator('tr.other', { hasText: 'title' }).count()).toBe(0)
})
