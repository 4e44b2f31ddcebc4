import type { Page } from 'playwright-core'
import { openConsole, type OpenConsole } from './browser.js'

let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
}, 60_000)
afterAll(() => console.close())

const rows = () => page.locator('[data-test=records] tbody tr').allInnerTexts()
const open = (path: string) => page.goto(`${console.service.url}${path}`)

describe('the list of records', () => {
  it('is filtered with completion, sorted and narrowed, and keeps all of it in the address', async () => {
    await open('/t/observatory/records/programme')
    await page.click('[data-test=filter]')
    await page.keyboard.type('hoursLeft > 10 and lead.fam')
    await page.locator('.cm-tooltip-autocomplete [aria-selected]', { hasText: 'lead.familyName' }).waitFor()
    // The editor takes no completion in the moment it appears, so that none is taken unseen.
    await page.waitForTimeout(200)
    await page.keyboard.press('Tab')
    await page.keyboard.type(" = 'Brandt")
    await page.keyboard.press('End')
    await page.keyboard.press('Enter')
    await page.waitForURL(/where=/)
    await page.click('[data-test=sort-hoursLeft]')
    await page.waitForURL(/order=hoursLeft/)
    await page.click('[data-test=sort-hoursLeft]')
    await page.waitForURL(/order=hoursLeft[+%20]+desc/)
    await page.click('[data-test=columns]')
    await page.click('[data-test="column-lead.badgeNo"]')
    await page.keyboard.press('Escape')
    await page.locator('[data-test="sort-lead.badgeNo"]').waitFor()
    await page.locator('[data-test=rows]', { hasText: '6 rows' }).waitFor()
    const before = await rows()
    expect(before[0]).toMatch(/P-148.*140\.80.*B-00/s)
    // Another person with the same address sees the same.
    const other = await console.person()
    await other.goto(page.url())
    await other.locator('[data-test=rows]', { hasText: '6 rows' }).waitFor()
    expect(await other.locator('[data-test=records] tbody tr').allInnerTexts()).toEqual(before)
    await page.locator('[data-test=records] tbody tr').first().click()
    await page.waitForURL(/P-148$/)
    await page.click('[data-test=back]')
    await page.waitForURL(/where=.*order=/)
    await page.locator('[data-test=rows]', { hasText: '6 rows' }).waitFor()
    expect(await rows()).toEqual(before)
  })

  it('points to what is wrong with a filter, and shows how it finds', async () => {
    await open('/t/observatory/records/programme?where=hoursLeft %3E title')
    expect(await page.locator('[data-test=filter-problem]').innerText()).toMatch(/numeric > text.*\n.*\n +\^/)
    await open('/t/observatory/records/programme?where=code %3D %27P-107%27')
    await page.click('[data-test=explain]')
    await page.locator('[data-test=explained] [data-test=statement]').waitFor()
    expect(await page.locator('[data-test=explained]').innerText()).toMatch(/P-107[\s\S]*PostgreSQL's plan/)
  })
})

describe('the page of tables', () => {
  it('draws them, and saves a corrected mapping as a revision that can be compared', async () => {
    await open('/t/observatory/tables')
    await page.locator('.table-box', { hasText: /^telescope/ }).click()
    expect(await page.locator('[data-test=table-columns]').innerText()).toMatch(/aperture_m\s+numeric\(5,2\)/)
    await page.click('[data-test=tab-mapping]')
    const editor = page.locator('[data-test=editor] .cm-content')
    await editor.click()
    await page.keyboard.press('Control+End')
    await page.keyboard.type("rules:\n- that: aperture > 0\notherwise: 'No mirror.'")
    await page.locator('[data-test=findings]').waitFor()
    expect(await page.locator('[data-test=save-definition]').isDisabled()).toBe(true)
    const source = (await console.service.client.target('observatory').mapping('telescope')).source
    await editor.fill(`${source}rules:\n  - that: apertureM > 0\n    otherwise: No mirror.\n`)
    await page.locator('[data-test=findings]').waitFor({ state: 'detached' })
    await page.click('[data-test=save-definition]')
    await page.locator('[data-test=said]', { hasText: 'revision 2' }).waitFor()
    expect((await console.service.client.target('observatory').mapping('telescope')).revision).toBe(2)
    await page.click('[data-test=compare-with]')
    await page.getByText('revision 1').click()
    expect(await page.locator('[data-test=compare]').innerText()).toMatch(/No mirror/)
  })
})
