import { chromium, type Browser, type Page } from 'playwright-core'
import { holds, isDisabled, shows } from './browser.js'
import { startTestService, type RunningService } from '../../../testing/running-service.js'

const FLAGS = [
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
]
let service: RunningService
let browser: Browser
let page: Page

beforeAll(async () => {
  service = await startTestService()
  browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: FLAGS })
  page = await browser.newPage({ viewport: { width: 1280, height: 800 } })
  page.setDefaultTimeout(30_000)
})
afterAll(async () => {
  await browser.close()
  await service.stop()
})

const open = (path: string) => page.goto(`${service.url}${path}`)
const field = (name: string) => page.locator(`[data-test=property-${name}] :is(input, textarea:not([readonly]))`)
const text = (test: string) => page.locator(`[data-test=${test}]`).first()

describe('the console', () => {
  it('asks for a token, and says when it is wrong', async () => {
    const { next } = await service.client.target('observatory').find('programme', { limit: 10 })
    await open(`/t/observatory/records/programme?after=${next}`)
    await page.fill('input[name=token]', 'lgm_wrong')
    await page.click('button[type=submit]')
    await shows(text('problem'), /not known here/)
    await page.fill('input[name=token]', service.token)
    await page.click('button[type=submit]')
    // Signed in, it leads to where one wanted to go.
    await shows(page.locator('[data-test=records] tbody tr').first(), /P-111/)
    expect(await page.evaluate(() => JSON.stringify({ ...localStorage, cookie: document.cookie }))).not.toMatch(
      /lgm_|session/,
    )
  })

  it('takes a person from a list to a committed change and back to the same place', async () => {
    await page.getByText('P-112', { exact: true }).click()
    await field('hoursLeft').waitFor()
    expect(page.url()).toMatch(/\/records\/programme\/P-112$/)
    expect(await field('code').getAttribute('readonly')).not.toBeNull()
    expect(await field('updatedAt').getAttribute('readonly')).not.toBeNull()
    await field('hoursLeft').fill('30.00')
    await shows(text('was'), 'was 31.25')
    await page.click('[data-test=rehearse]')
    await page.locator('[data-outcome=rehearsed]').waitFor()
    await shows(text('matched'), 'matched 1')
    await shows(text('difference'), /hoursLeft\s+31\.25\s+30\.00/)
    await shows(text('statement'), /update public\.programme/)
    await shows(text('binds'), /\$1\s+hoursLeft\s+30\.00/)
    expect(await service.observatory.sql(`select hours_left from programme where code = 'P-112'`)).toEqual([
      { hours_left: '31.25' },
    ])
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
    expect(await service.observatory.sql(`select hours_left from programme where code = 'P-112'`)).toEqual([
      { hours_left: '30.00' },
    ])
    await page.click('[data-test=back]')
    await shows(page.locator('tr.just-changed'), /P-112/)
    expect(page.url()).toMatch(/after=/)
  })

  it('goes to the next and the previous record of the list', async () => {
    await page.getByText('P-112', { exact: true }).click()
    await page.click('[data-test=next]')
    await page.getByRole('heading', { name: 'P-113' }).waitFor()
    await page.click('[data-test=previous]')
    await page.getByRole('heading', { name: 'P-112' }).waitFor()
  })

  it('says who was faster and offers the current values', async () => {
    await open('/t/observatory/records/programme/P-114')
    await field('title').fill('Mine')
    const theirs = await service.client
      .target('observatory')
      .change('programme', ['P-114'], { title: 'Theirs' }, { guard: 'v1' })
    expect(theirs.receipt.outcome).toBe('committed')
    await page.click('[data-test=commit]')
    await shows(text('conflict'), /by admin[\s\S]*title\s+Dust around nearby giants\s+Mine\s+Theirs/)
    await page.click('[data-test=take-current]')
    await page.waitForFunction(
      () => document.querySelector<HTMLTextAreaElement>('[data-test=property-title] textarea')?.value === 'Theirs',
    )
    await field('title').fill('Mine, on top')
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
  })

  it('shows what the database refuses, and keeps what was typed', async () => {
    await open('/t/observatory/records/programme/P-115')
    await field('hoursLeft').fill('399.00')
    await page.click('[data-test=commit]')
    await shows(text('problem'), /hoursLeft <= hoursGranted/)
    await holds(field('hoursLeft'), '399.00')
    await field('priority').fill('high')
    await page.locator('[data-test=property-priority]', { hasText: 'expected a number' }).waitFor()
    await isDisabled(page.locator('[data-test=commit]'))
  })

  it('finds the entry in the book', async () => {
    page.on('dialog', (dialog) => void dialog.accept())
    await open('/t/observatory/book?outcome=committed')
    await page.locator('[data-test=entries] tbody tr', { hasText: 'P-112' }).click()
    await page.locator('[data-outcome=committed]').waitFor()
    await shows(text('difference'), /hoursLeft\s+31\.25\s+30\.00/)
  })

  it('narrows the book by mapping and actor, as its address says', async () => {
    await open('/t/observatory/book')
    await page.locator('[data-test=entries] tbody tr', { hasText: 'P-112' }).first().waitFor()
    await page.fill('[data-test=filter-actor] input', 'nobody')
    await page.press('[data-test=filter-actor] input', 'Enter')
    await page.getByText('No entry is like that.').waitFor()
    expect(page.url()).toMatch(/actor=nobody/)
    await open('/t/observatory/book?mapping=telescope')
    await page.getByText('No entry is like that.').waitFor()
    await page.fill('[data-test=filter-what] input[type=text]', 'progr')
    await page.getByRole('option', { name: 'programme' }).click()
    await page.locator('[data-test=entries] tbody tr', { hasText: 'P-112' }).first().waitFor()
    expect(page.url()).toMatch(/mapping=programme/)
  })
})

describe('a record', () => {
  it('is opened whatever its key is, and changed', async () => {
    await service.observatory
      .sql(`create table tray (label text primary key, holds jsonb); grant all on tray to ledgerman_worker;
      insert into tray values ('', '1'), ('.', '1'), ('..', '1'), ('a/b,%2F?#', '1')`)
    const properties = { label: { column: 'label', fixed: true }, holds: { column: 'holds' } }
    const tray = { mapping: 'tray', table: 'public.tray', key: ['label'], guard: { by: 'rowStamp' }, properties }
    await service.client.target('observatory').publishMapping('tray', JSON.stringify(tray))
    for (let at = 0; at < 4; at++) {
      await open('/t/observatory/records/tray')
      await page.locator('[data-test=records] tbody tr').nth(at).click()
      await field('holds').fill('2')
      await page.click('[data-test=commit]')
      await page.locator('[data-outcome=committed]').waitFor()
      await page.reload()
      await page.locator('[data-test=event]').first().waitFor()
      expect(await page.locator('[data-test=problem]').count()).toBe(0)
    }
    expect(await service.observatory.sql(`select label from tray where holds <> '2'`)).toEqual([])
  })

  it('is added with what is named, and removed after being asked once', async () => {
    await open('/t/observatory/records/telescope')
    await page.click('[data-test=add]')
    await field('code').fill('HF9')
    await field('name').fill('Harrow Nine')
    await field('apertureM').fill('4.20')
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
    expect(await service.observatory.sql(`select name, aperture_m, status from telescope where code = 'HF9'`)).toEqual([
      { name: 'Harrow Nine', aperture_m: '4.20', status: 'operational' },
    ])
    await page.getByText('open it').click()
    await page.click('[data-test=remove]')
    await shows(text('ask-remove'), /Remove telescope HF9\?/)
    await page.click('[data-test=confirm-remove]')
    await page.locator('[data-outcome=committed]').waitFor()
    await shows(text('difference'), /name\s+Harrow Nine/)
    expect(await service.observatory.sql(`select 1 from telescope where code = 'HF9'`)).toEqual([])
  })

  it('has an editor for each kind, and null told apart from empty', async () => {
    await open('/t/observatory/records/block/1')
    await page.locator('[data-test=property-state] .v-select').click()
    await page.getByRole('option', { name: 'failed' }).click()
    expect(await field('night').getAttribute('type')).toBe('date')
    const lines = 'Follow-up\r\nof  two nights'
    await service.observatory.sql(
      `update programme set title = $1, tags = '{imaging,imaging,urgent,urgent}' where code = 'P-120'`,
      [lines],
    )
    await open('/t/observatory/records/programme/P-120')
    // An entry that stands there twice is one of two: one goes, and one more can come.
    const tags = page.locator('[data-test=property-tags]')
    await tags.locator('.v-chip__close').first().click()
    for (const typed of ['time-critical', 'urgent']) {
      await tags.locator('input:not([type=hidden])').fill(typed)
      await page.keyboard.press('Enter')
    }
    await page.locator('[data-test=property-settings] textarea').first().fill('{"binning": 12345678901234567890.5}')
    await page.locator('[data-test=property-contactEmail]').getByText('set null').click()
    // Line breaks stay those that were loaded, and can be seen.
    await field('title').press('Control+End')
    await field('title').press('!')
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
    const [row] = await service.observatory.sql(
      `select title, tags, settings::text, contact_email from programme where code = 'P-120'`,
    )
    await shows(text('difference'), /Follow-up\\r↵of {2}two nights\s+Follow-up\\r↵of {2}two nights!/)
    expect(row).toEqual({
      title: `${lines}!`,
      tags: ['imaging', 'urgent', 'urgent', 'time-critical', 'urgent'],
      settings: '{"binning": 12345678901234567890.5}',
      contact_email: null,
    })
  })
})
