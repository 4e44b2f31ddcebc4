import type { Page } from 'playwright-core'
import { holds, openConsole, shows, soon, type OpenConsole } from './browser.js'

let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
afterAll(() => console.close())

const text = (test: string) => page.locator(`[data-test=${test}]`).first()
const editor = () => page.locator('[data-test=editor] .cm-content')
const SOURCE = `transaction: lower-priority
summary: One step down.
params:
  code: { type: text }
  by: { type: integer, default: 1, rule: ':by > 0' }
examples:
  - { code: P-107 }
  - { code: P-112, by: 2 }
steps:
  - load: programme
    as: it
    key: { code: ':code' }
    lock: change
  - require: it.priority > :by
    otherwise: '{it.code} is at {it.priority} already.'
  - change: it
    compute: { priority: 'priority - :by' }
`

describe('a transaction of one’s own', () => {
  it('is written, with what is wrong told while it is typed, published, drawn, and run', async () => {
    await page.goto(`${console.service.url}/t/observatory/transactions`)
    await page.click('[data-test=new-transaction]')
    await editor().fill(SOURCE.replace('it.priority > :by', 'it.prioity > :by'))
    const findings = page.locator('[data-test=finding-list] button')
    await findings.first().waitFor()
    await soon(async () =>
      expect(await findings.allInnerTexts()).toEqual([
        expect.stringMatching(
          /^14:14\s+steps\.2\.require\s+prioity is not a property of programme. Did you mean priority\?$/,
        ),
      ]),
    )
    await findings.first().click()
    await shows(page.locator('[data-test=editor] .cm-activeLine'), /it\.prioity/)
    await editor().fill(SOURCE.replace('steps:', 'stps:'))
    await page.getByText(/unknown member stps/).waitFor()
    await editor().fill(SOURCE)
    await page.locator('[data-test=findings]').waitFor({ state: 'detached' })
    await page.click('[data-test=save-definition]')
    await page.waitForURL('**/transactions/lower-priority')
    await page.getByRole('tab', { name: 'Run' }).click()
    await soon(async () =>
      expect(await page.locator('[data-test=flow] .step').allInnerTexts()).toEqual([
        expect.stringMatching(/load programme[\s\S]*locks[\s\S]*code = :code/),
        expect.stringMatching(/require[\s\S]*it\.priority > :by/),
        expect.stringMatching(/change it[\s\S]*priority := priority - :by/),
      ]),
    )
    await page.click('[data-test=example-2]')
    await holds(page.locator('[data-test=param-code] textarea'), 'P-112')
    await page.click('[data-test=rehearse]')
    await page.locator('[data-outcome=rehearsed]').waitFor()
    await page.click('[data-test=commit]')
    await page.locator('[data-outcome=committed]').waitFor()
    expect(await console.service.observatory.sql(`select priority from programme where code = 'P-112'`)).toEqual([
      { priority: 1 },
    ])
    await page.locator('[data-test=param-code] textarea').press('Control+Enter')
    await page.locator('[data-outcome=refused]').waitFor()
    await shows(text('problem'), /P-112 is at 1 already/)
    await shows(page.locator('.step.refused'), /require/)
    await page.locator('[data-test=param-by] textarea').fill('0')
    await page.click('[data-test=rehearse]')
    await page.getByText('The parameter :by breaks its rule').waitFor()
    await page.locator('[data-test=param-by] textarea').fill('many')
    await page.click('[data-test=rehearse]')
    await page.getByText(':by: expected').waitFor()
  })

  it('is corrected as a revision, which is compared with the one before', async () => {
    await page.goto(`${console.service.url}/t/observatory/transactions/lower-priority`)
    await page.click('[data-test=tab-definition]')
    await editor().fill(SOURCE.replace('One step down.', 'Some steps down.'))
    await page.locator('[data-test=save-definition]:not([disabled])').click()
    await page.getByText('· revision 2').waitFor()
    await page.click('[data-test=compare-with]')
    await page.getByRole('option', { name: 'revision 1' }).click()
    await page.locator('[data-test=compare]').waitFor()
    await soon(async () =>
      expect(await page.locator('[data-test=compare] .cm-changedLine').allInnerTexts()).toEqual([
        'summary: One step down.',
        'summary: Some steps down.',
      ]),
    )
    // Somebody else publishes meanwhile: what was typed here does not overwrite it.
    await page.goto(`${console.service.url}/t/observatory/transactions/lower-priority`)
    await page.click('[data-test=tab-definition]')
    await editor().fill(SOURCE.replace('One step down.', 'Mine.'))
    await console.service.client
      .target('observatory')
      .publish([{ source: SOURCE.replace('One step down.', 'Theirs.') }])
    await page.locator('[data-test=save-definition]:not([disabled])').click()
    await page.locator('[data-test=problem]').waitFor()
    await shows(text('problem'), /record-changed|revision 3/)
    await shows(editor(), /Mine\./)
  })

  it('is withdrawn when that is confirmed, unless somebody published meanwhile', async () => {
    const target = console.service.client.target('observatory')
    await page.goto(`${console.service.url}/t/observatory/transactions/lower-priority`)
    await page.click('[data-test=tab-definition]')
    await target.publish([{ source: SOURCE.replace('One step down.', 'Theirs too.') }])
    const withdraw = async () => {
      await page.click('[data-test=withdraw-definition]')
      await page.click('[data-test=confirm-withdraw]')
    }
    await withdraw()
    await shows(text('problem'), /somebody published meanwhile/)
    await page.reload()
    await page.click('[data-test=tab-definition]')
    await withdraw()
    await soon(async () =>
      expect((await target.transactions()).map(({ name }) => name)).not.toContain('lower-priority'),
    )
    await target.publish([{ source: SOURCE }])
  })

  it('says so where there is none of that name', async () => {
    await page.goto(`${console.service.url}/t/observatory/transactions/lower-priorit`)
    await page.locator('[data-test=problem]').waitFor()
    await shows(text('problem'), /Did you mean lower-priority/)
  })
})
