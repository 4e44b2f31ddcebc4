import type { Page } from 'playwright-core'
import { holds, isDisabled, openConsole, shows, type OpenConsole } from './browser.js'

let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
afterAll(() => console.close())

const text = (test: string) => page.locator(`[data-test=${test}]`).first()
const hours = () => console.service.observatory.sql(`select hours_left from programme where code = 'P-107'`)

describe('the page of transactions', () => {
  it('shows the steps, rehearses with its example, and commits exactly what was rehearsed', async () => {
    await page.goto(`${console.service.url}/t/observatory/transactions/move-hours`)
    await page.locator('[data-test=flow] .step').nth(5).waitFor()
    await holds(page.locator('[data-test=param-hours] textarea'), '4')
    await isDisabled(page.locator('[data-test=commit]'))
    await page.click('[data-test=rehearse]')
    await page.locator('[data-outcome=rehearsed]').waitFor()
    await page.click('[data-test=step-4] button')
    await page.locator('[data-test=step-4] [data-test=statement]').waitFor()
    await shows(page.locator('[data-test=step-4] [data-test=record]'), 'P-107')
    await shows(text('step-4'), /matched 1[\s\S]*hoursLeft\s+18\.50\s+14\.50/)
    expect(await hours()).toEqual([{ hours_left: '18.50' }])
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
    expect(await hours()).toEqual([{ hours_left: '14.50' }])
    await page.getByText('entry in the book').click()
    await page.locator('[data-test=steps]').waitFor()
    await shows(text('receipt'), /move-hours, revision 1/)
  })

  it('shows where a run was refused, and refuses to commit a stale rehearsal', async () => {
    await page.goto(`${console.service.url}/t/observatory/transactions/move-hours`)
    for (const [hours, words] of [
      ['few', /Expected a number/],
      ['0', /Breaks :hours > 0/],
    ] as const) {
      await page.locator('[data-test=param-hours] textarea').fill(hours)
      await page.click('[data-test=rehearse]')
      await shows(page.locator('[data-test=param-hours] .v-messages'), words)
    }
    await page.locator('[data-test=param-hours] textarea').fill('300')
    await page.click('[data-test=rehearse]')
    await page.locator('[data-outcome=refused]').waitFor()
    await shows(text('problem'), /has 14\.50 hours left, fewer than 300/)
    await shows(page.locator('.step.refused'), /require/)
    await page.locator('[data-test=param-hours] textarea').fill('2')
    await page.click('[data-test=rehearse]')
    await page.locator('[data-outcome=rehearsed]').waitFor()
    await console.service.observatory.sql(`update programme set hours_left = 9 where code = 'P-107'`)
    await page.click('[data-test=commit]')
    await page.locator('[data-test=problem]').waitFor()
    await shows(text('problem'), /rehearsal-stale/)
  })

  it('takes json and null from an example as they are, and says which parameter is no JSON', async () => {
    const source = `transaction: note-settings
params:
  note: { type: jsonb }
  priority: { type: smallint, nullable: true, default: 2 }
examples: [{ note: '1.10 hours', priority: null }]
steps:
  - change: programme
    key: { code: "'P-121'" }
    compute: { settings: ':note', priority: 'coalesce(:priority, 5)' }
`
    await console.service.client.target('observatory').publish([{ source }])
    await page.goto(`${console.service.url}/t/observatory/transactions/note-settings`)
    const note = page.locator('[data-test=param-note] textarea')
    await note.fill('{"hours": 1.10')
    await page.click('[data-test=rehearse]')
    await page.locator('[data-test=problem]').waitFor()
    await shows(text('problem'), /A value is not valid\s+note: expected JSON\./)
    await page.click('[data-test=example-1]')
    await holds(note, '"1.10 hours"')
    await page.click('[data-test=rehearse]')
    await page.locator('[data-outcome=rehearsed]').waitFor()
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
    expect(
      await console.service.observatory.sql(
        `select settings #>> '{}' as note, priority from programme where code = 'P-121'`,
      ),
    ).toEqual([{ note: '1.10 hours', priority: 5 }])
    await page.goto(`${console.service.url}/t/observatory/transactions/move-hours`)
    await page.locator('[data-test=param-hours]').waitFor()
  })

  it('checks a definition while it is typed, and saves it as a revision', async () => {
    await page.click('[data-test=tab-definition]')
    const editor = page.locator('[data-test=editor] .cm-content')
    const source = (await console.service.client.target('observatory').transaction('move-hours')).source
    await editor.fill(source.replace('giver.hoursLeft >= :hours', 'giver.hoursLft >= :hours'))
    await page.locator('[data-test=findings]').waitFor()
    await editor.fill(source.replace('lockWait: 2s', 'lockWait: 1s'))
    await page.locator('[data-test=findings]').waitFor({ state: 'detached' })
    await page.click('[data-test=save-definition]')
    await page.getByText('· revision 2').waitFor()
  })
})
