import type { Page } from 'playwright-core'
import { passTime } from '../../../testing/move-clock.js'
import { isDisabled, openConsole, shows, soon, type OpenConsole } from './browser.js'

let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
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
    await soon(async () => expect(await other.locator('[data-test=records] tbody tr').allInnerTexts()).toEqual(before))
    await page.locator('[data-test=records] tbody tr').first().click()
    await page.waitForURL(/P-148$/)
    await page.click('[data-test=back]')
    await page.waitForURL(/where=.*order=/)
    await page.locator('[data-test=rows]', { hasText: '6 rows' }).waitFor()
    await soon(async () => expect(await rows()).toEqual(before))
  })

  it('points to what is wrong with a filter, and shows how it finds', async () => {
    await open('/t/observatory/records/programme?where=hoursLeft %3E title')
    await shows(page.locator('[data-test=filter-problem]'), /numeric > text.*\n.*\n +\^/)
    await open('/t/observatory/records/programme?where=code %3D %27P-107%27')
    await page.click('[data-test=explain]')
    await page.locator('[data-test=explained] [data-test=statement]').waitFor()
    await shows(page.locator('[data-test=explained]'), /P-107[\s\S]*PostgreSQL's plan/)
  })
})

describe('a find that the mapping names', () => {
  it('is chosen from a list, asks for its parameters, and stands in the address', async () => {
    await open('/t/observatory/records/programme')
    await page.click('[data-test=finds]')
    await page.click('[data-test=find-shortOfHours]')
    await page.getByText('Give least to find records.').waitFor()
    await page.fill('[data-test=param-least] input', '9')
    await page.click('[data-test=find]')
    await page.locator('[data-test=rows]', { hasText: '8 rows' }).waitFor()
    expect(page.url()).toMatch(/find=shortOfHours&params.least=9/)
    await page.click('[data-test=close-named-find]')
    await page.locator('[data-test=rows]', { hasText: '25 rows' }).waitFor()
  })
})

describe('a narrow window', () => {
  it('keeps the key in place while the rest of a row moves', async () => {
    await page.setViewportSize({ width: 900, height: 700 })
    await open('/t/observatory/records/programme')
    await page.locator('[data-test=records].more-right').waitFor()
    await page.locator('.v-table__wrapper').evaluate((box) => (box.scrollLeft = box.scrollWidth))
    const [key, frame] = [page.locator('[data-test=records] td.stays').first(), page.locator('.v-table__wrapper')]
    const left = async (at: typeof key) => Math.round((await at.boundingBox())?.x ?? -1)
    await soon(async () => expect(await left(key)).toBe(await left(frame)))
    await soon(async () => expect(await page.locator('[data-test=records].more-right').count()).toBe(0))
    await page.setViewportSize({ width: 1280, height: 800 })
  })

  it('has nothing beside it that would have to be scrolled to', async () => {
    await page.setViewportSize({ width: 600, height: 800 })
    for (const [path, shown] of [
      ['records/programme', '[data-test=records]'],
      ['records/programme/P-107', '[data-test=title]'],
      ['transactions/move-hours', '[data-test=new-transaction]'],
      ['review', '.columns'],
      ['code', '.columns'],
    ] as const) {
      await open(`/t/observatory/${path}`)
      await page.locator(shown).first().waitFor()
      const beside = () => page.evaluate('document.documentElement.scrollWidth - document.documentElement.clientWidth')
      await soon(async () => expect([path, await beside()]).toEqual([path, 0]))
    }
    await page.setViewportSize({ width: 1280, height: 800 })
  })
})

describe('the keys', () => {
  it('lead from the menu to a record, its fields, a rehearsal and back, and are listed on a sheet', async () => {
    await open('/t/observatory')
    await page.locator('h1').waitFor()
    await page.keyboard.press('?')
    await shows(page.locator('[data-test=keys]'), /Ctrl \+ Enter\s+Rehearse/)
    await page.keyboard.press('Escape')
    await page.keyboard.press('Alt+2')
    await page.locator('[data-test=rows]').waitFor()
    await open('/t/observatory/records/programme')
    await page.locator('[data-test=rows]').waitFor()
    await page.keyboard.press('ArrowDown')
    await page.keyboard.press('ArrowDown')
    await page.keyboard.press('Enter')
    await page.waitForURL(/P-102$/)
    await page.locator('[data-test=title]', { hasText: 'P-102' }).waitFor()
    await page.keyboard.press('e')
    await page.keyboard.type('Faint ')
    await page.keyboard.press('Control+Enter')
    await page.locator('[data-test=receipt]').waitFor()
    page.once('dialog', (dialog) => void dialog.accept())
    await page.keyboard.press('Alt+ArrowUp')
    await page.waitForURL(/records\/programme(\?|$)/)
  })
})

describe('the page of tables', () => {
  it('shows rows and sizes, labels that do not lie on each other, and one table with its neighbours', async () => {
    await open('/t/observatory/tables')
    await shows(page.locator('.table-box', { hasText: /^exposure/ }), /200,000 rows · \d+ MB/)
    await soon(async () => expect(await page.locator('.line-label').count()).toBe(7))
    const labels = await page.locator('.line-label').all()
    const boxes = (await Promise.all(labels.map((label) => label.boundingBox()))).flatMap((box) => box ?? [])
    const overlapping = boxes.flatMap((one, at) =>
      boxes
        .slice(at + 1)
        .filter(
          (other) =>
            Math.abs(one.x - other.x) < (one.x < other.x ? one.width : other.width) &&
            Math.abs(one.y - other.y) < (one.y < other.y ? one.height : other.height),
        ),
    )
    expect([boxes.length, overlapping]).toEqual([7, []])
    await page.fill('[data-test=search-tables] input', 'hours')
    await page.waitForFunction(() => document.querySelectorAll('.table-box').length === 1)
    await page.locator('.table-box').click()
    await page.click('[data-test=near] input')
    await page.waitForFunction(() => document.querySelectorAll('.table-box').length === 2)
  })

  it('shows each of the mappings that a table has', async () => {
    await open('/t/observatory/tables?table=public.block')
    // The picture fits what is left beside it.
    await soon(async () => {
      const places = [page.locator('.table-box', { hasText: /^block/ }), page.locator('[data-test=table-title]')]
      const [box, title] = await Promise.all(places.map((place) => place.boundingBox()))
      expect((box?.x ?? Infinity) + (box?.width ?? 0)).toBeLessThan(title?.x ?? 0)
    })
    await page.click('[data-test=tab-mapping]')
    await page.click('[data-test=choose-mapping]')
    await page.getByRole('option', { name: 'block', exact: true }).click()
    await shows(page.locator('.cm-content'), /^mapping: block$/m)
  })

  it('shows a mapping whose table is gone, so that it can be corrected or withdrawn', async () => {
    await console.service.observatory.sql('create table plate (id int primary key)')
    const target = console.service.client.target('observatory')
    const { source } = await target.deriveMapping('public', 'plate')
    await target.publish([{ source }])
    await console.service.observatory.sql('drop table plate')
    // Whoever only looks is told of it after ten seconds.
    const setBack = passTime(11_000)
    await soon(async () => expect((await target.overview()).attention.map(({ about }) => about)).toContain('plate'))
    setBack()
    await open('/t/observatory')
    await page.locator('[data-test=attention]').getByText('public.plate').click()
    await page.waitForURL(/tables\?mapping=plate$/)
    await shows(page.locator('[data-test=table-title]'), 'public.plate')
    await shows(page.locator('.cm-content'), /^mapping: plate$/m)
    await page.click('[data-test=withdraw-definition]')
    await page.click('[data-test=confirm-withdraw]')
    await page.waitForURL(/tables$/)
    expect((await target.mappings()).map(({ name }) => name)).not.toContain('plate')
  })

  it('draws them, and saves a corrected mapping as a revision that can be compared', async () => {
    await open('/t/observatory/tables')
    await page.locator('.table-box', { hasText: /^telescope/ }).click()
    await shows(page.locator('[data-test=table-columns]'), /aperture_m\s+numeric\(5,2\)/)
    await page.click('[data-test=tab-mapping]')
    const editor = page.locator('[data-test=editor] .cm-content')
    await editor.click()
    await page.keyboard.press('Control+End')
    await page.keyboard.type("rules:\n- that: aperture > 0\notherwise: 'No mirror.'")
    await page.locator('[data-test=findings]').waitFor()
    await isDisabled(page.locator('[data-test=save-definition]'))
    const source = (await console.service.client.target('observatory').mapping('telescope')).source
    await editor.fill(`${source}rules:\n  - that: apertureM > 0\n    otherwise: No mirror.\n`)
    await page.locator('[data-test=findings]').waitFor({ state: 'detached' })
    await page.click('[data-test=save-definition]')
    await page.locator('[data-test=said]', { hasText: 'revision 2' }).waitFor()
    expect((await console.service.client.target('observatory').mapping('telescope')).revision).toBe(2)
    await page.click('[data-test=compare-with]')
    await page.getByText('revision 1').click()
    await shows(page.locator('[data-test=compare]'), /No mirror/)
  })
})
