import { AxeBuilder } from '@axe-core/playwright'
import type { Page } from 'playwright-core'
import { openConsole, shows, soon, type OpenConsole } from './browser.js'

// The first page, and what every page has to be for people who do not see it, or use no mouse.
let console: OpenConsole
let page: Page

beforeAll(async () => {
  console = await openConsole()
  page = await console.person()
})
afterAll(() => console.close())

const open = (test: string, by = page) => by.locator(`[data-test="${test}"]`)
const go = (path: string) => page.goto(`${console.service.url}/t/observatory${path}`)

it('a new target says where to begin; a used one what needs attention, and what happens', async () => {
  await go('')
  await shows(open('begin'), /A first visit[\s\S]*rehearsal[\s\S]*commit[\s\S]*put it back/)
  await shows(open('attention'), /Nothing needs attention/)
  const target = console.service.client.target('observatory')
  await target.change('programme', ['P-107'], { priority: 5 }, { guard: '*' })
  await target.change('programme', ['P-107'], { hoursLeft: '999' }, { guard: '*' }).catch(() => undefined)
  await page.reload()
  await open('attention').getByText('1 refused in the last hour: constraint-broken').click()
  await page.waitForURL(/book\?outcome=constraint-broken/)
  await page.goBack()
  await soon(async () =>
    expect(await open('runs-chart').locator('canvas').getAttribute('aria-label')).toBe(
      'By hour: 1 committed, 1 refused',
    ),
  )
  await shows(open('busiest-records'), /programme P-107\s+1/)
  await open('busiest-records').getByRole('link', { name: 'programme P-107' }).click()
  await open('title').filter({ hasText: 'P-107' }).waitFor()
})

it('a first visit is guided from a table to a change that is put back', async () => {
  const guide = (words: string | RegExp) => open('guide').filter({ hasText: words }).waitFor()
  await go('')
  await open('begin-guide').click()
  await guide(/1 of 6.*Choose a table/)
  await page.locator('.table-box', { hasText: /^telescope/ }).click()
  await guide(/2 of 6.*Look at its mapping/)
  await open('tab-mapping').click()
  await guide(/3 of 6.*press Rehearse/)
  await page.getByRole('link', { name: 'Records', exact: true }).last().click()
  await page.locator('[data-test=records] tbody tr').first().click()
  await page.fill('[data-test=property-apertureM] input', '4.25')
  await open('rehearse').click()
  await guide(/4 of 6.*press Commit/)
  await open('commit').click()
  await guide(/5 of 6.*Open the entry/)
  await open('guide-go').click()
  await page.locator('[data-test=entries] tbody tr').first().click()
  await guide(/6 of 6.*Press Put it back/)
  await open('reverse').click()
  await open('commit-reversal').click()
  await guide(/put back\./)
  await page.reload()
  await guide(/put back\./)
  await open('guide-end').click()
  await open('guide').waitFor({ state: 'detached' })
})

it('an address that leads nowhere keeps the target and its menu', async () => {
  await go('/nothing/here')
  await page.getByRole('link', { name: 'Records', exact: true }).waitFor()
})

it('a page that is chosen from the menu while it is open shows what it showed', async () => {
  await go('/records/block?where=id > 3')
  await open('records').locator('tbody tr').first().waitFor()
  await page.getByRole('link', { name: 'Records', exact: true }).click()
  await page.waitForURL(/records\/block$/)
  await open('records').locator('tbody tr').first().click()
  await page.waitForURL(/records\/block\/1$/)
  await go('/transactions/move-hours')
  await open('rehearse').waitFor()
  await page.getByRole('link', { name: 'Transactions', exact: true }).click()
  await page.waitForURL(/transactions\/move-hours$/)
  await open('rehearse').waitFor()
})

it('a refusal marks the fields it speaks of, and the first of those that were edited has the focus', async () => {
  await go('/records/programme/P-108')
  await page.fill('[data-test=property-hoursLeft] input', '999')
  await page.click('[data-test=rehearse]')
  await open('broken').waitFor()
  await shows(open('broken'), /hoursGranted: [\d.]+\s+hoursLeft: 999/)
  await open('property-hoursLeft').getByText('999 breaks the constraint').waitFor()
  await page.locator('[data-test=property-hoursLeft] input:focus').waitFor()
})

it('a record names the ones it leads to, and lists those that lead to it', async () => {
  await go('/records/block/5')
  await open('linked-programmeId').filter({ hasText: 'P-105 · The outer halo of NGC 6946' }).waitFor()
  await open('related').getByRole('link', { name: /^401/ }).waitFor()
  await open('related').getByRole('link', { name: 'all 100' }).click()
  await page.waitForURL(/records\/exposure\?where=/)
  await page.goBack()
  await open('linked-telescopeCode').click()
  await open('title').filter({ hasText: 'HF2' }).waitFor()
})

it('a statement is read in short, whole, and as another language writes it', async () => {
  await go('/records/programme/P-107')
  await page.fill('[data-test=property-title] textarea', 'Another title')
  await page.click('[data-test=rehearse]')
  const statement = open('statement').first()
  await statement.filter({ hasText: /^update public\.programme\s+set title = \$1/ }).waitFor()
  // The list of styles may close while the page still moves: then it is opened again.
  const styled = statement.filter({ hasText: 'set title = %(title)s' })
  for (let tries = 0; tries < 5 && !(await styled.isVisible()); tries++) {
    const option = page.getByRole('option', { name: '%(name)s' })
    if (!(await option.isVisible())) await open('style').first().click()
    await option.click({ timeout: 3_000 }).catch(() => undefined)
    await styled.waitFor({ timeout: 3_000 }).catch(() => undefined)
  }
  await styled.waitFor()
  await open('whole-statement').first().click()
  await statement.filter({ hasText: /with hit as[\s\S]*for no key update/ }).waitFor()
  const [code] = await Promise.all([page.context().waitForEvent('page'), open('as-code').click()])
  await code.locator('[data-test=code]', { hasText: 'export interface Programme' }).waitFor()
  await code.close()
})

it('shows a writer the pages that the role has, and says nothing of what it may not know', async () => {
  const { body } = await console.service.request('POST', '/v1/tokens', {
    body: { name: 'wanda', role: 'writer' },
    headers: { 'content-type': 'application/json' },
  })
  const writer = await console.person(body.token as string)
  await writer.getByRole('link', { name: 'Records' }).waitFor()
  const links = await writer.locator('nav a').allInnerTexts()
  expect(links.map((text) => text.trim())).toEqual(['Overview', 'Records', 'Transactions', 'Jobs', 'Tables', 'Book'])
  await writer.goto(`${console.service.url}/t/observatory/waits`)
  await writer.getByText('This needs the role author').waitFor()
  expect(await writer.locator('main').innerText()).not.toContain('Nobody waits')
  await writer.goto(`${console.service.url}/t/observatory/transactions/move-hours`)
  await writer.locator('[data-test=rehearse]').waitFor()
  expect(await writer.locator('[data-test=new-transaction], [data-test=to-drills]').count()).toBe(0)
  await open('tab-definition', writer).click()
  const definition = open('editor', writer).locator('.cm-content')
  await shows(definition, /^transaction: move-hours/)
  const published = await definition.innerText()
  await definition.click()
  await writer.keyboard.type('- x')
  expect(await definition.innerText()).toBe(published)
  expect(await open('save-definition', writer).count()).toBe(0)
  await writer.close()
})

it('a page that cannot be loaded is told of, and is there once the service is', async () => {
  const visitor = await console.person()
  const menu = (name: string) => visitor.getByRole('link', { name, exact: true }).click()
  await visitor.goto(`${console.service.url}/t/observatory/jobs`)
  await visitor.getByRole('heading', { name: 'Jobs' }).waitFor()
  await visitor.route('**/*', (route) => route.abort())
  await menu('Waits')
  await shows(open('page-failure', visitor), /could not be opened: the service cannot be reached/)
  await visitor.getByRole('button', { name: 'Sign out' }).click()
  await shows(open('page-failure', visitor), /not signed out/)
  await visitor.unroute('**/*')
  // Another release has been put in its place meanwhile: its pages have other names.
  await visitor.route(/BookPage-.*\.js/, (route) => route.fulfill({ status: 404 }), { times: 1 })
  await menu('Book')
  await open('entries', visitor).waitFor()
  await visitor.close()
})

it('a session that has ended says so, and goes on after another sign-in', async () => {
  const headers = { 'content-type': 'application/json' }
  const made = await console.service.request('POST', '/v1/tokens', { body: { name: 'brief', role: 'reader' }, headers })
  const brief = await console.person(made.body.token as string)
  await brief.goto(`${console.service.url}/t/observatory/records/programme`)
  await open('records', brief).locator('tbody tr').first().waitFor()
  await console.service.request('DELETE', `/v1/tokens/${made.body.id}`)
  // A token that was revoked is noticed within a second.
  await soon(async () => {
    await open('find', brief).click()
    expect(await open('sign-in-again', brief).count()).toBe(1)
  })
  await shows(open('problem', brief), /The session has ended/)
  const [again] = await Promise.all([brief.context().waitForEvent('page'), open('sign-in-again', brief).click()])
  const signIn = async (token: string) => {
    await again.fill('input[name=token]', token)
    await again.click('button[type=submit]')
  }
  await signIn(made.body.token as string)
  await shows(open('problem', again), /not known here, or was revoked/)
  await signIn(console.service.token)
  await again.waitForURL(/records\/programme$/)
  await open('find', brief).click()
  await open('problem', brief).waitFor({ state: 'detached' })
  await brief.context().close()
})

// Each with something that is there once the page is.
const PAGES: readonly (readonly [path: string, shown: string, act?: () => Promise<void>])[] = [
  ['', '[data-test=attention]'],
  ['/records/programme', '[data-test=records] tbody tr'],
  ['/records/programme/P-107', '[data-test=property-title]'],
  ['/add/telescope', '[data-test=property-code]'],
  ['/transactions/move-hours', '[data-test=rehearse]'],
  ['/jobs', 'h1'],
  ['/drills', 'h1'],
  ['/waits', '[data-test=waits-summary]'],
  ['/tables', '.vue-flow__node'],
  ['/book', 'tbody tr'],
  ['/code', '.cm-line'],
  ['/review', '.cm-content'],
  ['/transactions/move-hours', '[data-test=editor] .cm-line', () => page.getByText('Definition').click()],
  [`/change-all/programme?where=${encodeURIComponent("semester = '2026A'")}`, '[data-test=differences]', rehearseAll],
]

async function rehearseAll() {
  await page.locator('[data-test=expression] input').fill(`'Survey of the north'`)
  await page.click('[data-test=rehearse]')
}
/** Those that say the most in color, which is all that differs in the dark. */
const DARK = ['', '/records/programme/P-107', '/code']
const TAGS = ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']

it.each<[colorScheme: 'light' | 'dark', pages: typeof PAGES, runOnly: { type: 'tag' | 'rule'; values: string[] }]>([
  ['light', PAGES.filter(([, shown]) => shown !== 'h1'), { type: 'tag', values: TAGS }],
  [
    'dark',
    PAGES.filter(([path, , act]) => act !== undefined || DARK.includes(path)),
    { type: 'rule', values: ['color-contrast'] },
  ],
])(
  'no page has a fault that WCAG 2.1 AA knows, %s',
  async (colorScheme, pages, runOnly) => {
    await page.emulateMedia({ colorScheme })
    const found: string[] = []
    for (const [path, shown, act] of pages) {
      await go(path)
      await act?.()
      await page.locator(shown).first().waitFor()
      // The pages have no frames: what was found need not be gathered in another page.
      const { violations } = await new AxeBuilder({ page })
        .setLegacyMode()
        .options({ runOnly, resultTypes: ['violations'] })
        .analyze()
      for (const { id, nodes } of violations) found.push(`${path} ${id}: ${nodes[0]?.html.slice(0, 200)}`)
    }
    expect(found).toEqual([])
  },
  120_000,
)
