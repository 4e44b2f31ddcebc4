// Takes the pictures of the README from a demo that was started with bin/start --reset: node docs/take-screenshots.mjs
import { execFileSync } from 'node:child_process'
import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import { chromium } from 'playwright-core'

const here = join(import.meta.dirname, 'screenshots')
const root = join(import.meta.dirname, '..')
const url = process.env.LEDGERMAN_URL ?? 'http://127.0.0.1:4680'
const token = readFileSync(join(process.env.LEDGERMAN_DATA_DIR ?? join(root, '.ledgerman'), 'admin-token'), 'utf8').trim()
const flags = ['--no-sandbox', '--disable-gpu', '--disable-quic', '--no-first-run', '--disable-background-networking', '--disable-component-update', '--disable-sync']
const browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: flags })
const page = await browser.newPage({ viewport: { width: 1280, height: 800 }, colorScheme: 'light' })
const shoot = async (name) => {
  await page.waitForTimeout(500)
  await page.screenshot({ path: join(here, `${name}.png`) })
}
const ledgerman = (...words) => {
  const env = { ...process.env, LEDGERMAN_URL: url, LEDGERMAN_TOKEN: token, NO_COLOR: '1' }
  try {
    return execFileSync(join(root, 'bin/ledgerman'), words, { env, encoding: 'utf8', stdio: ['ignore', 'pipe', 'pipe'] })
  } catch (error) {
    return `${error.stdout ?? ''}${error.stderr}`
  }
}

await page.goto(url)
await page.fill('input[name=token]', token)
await page.click('button[type=submit]')
await page.locator('[data-test=attention]').waitFor()
await page.goto(`${url}/t/observatory/records/programme`)
await page.locator('[data-test=records] tbody tr').first().waitFor()
await shoot('records')

await page.goto(`${url}/t/observatory/tables?table=public.block`)
await page.locator('[data-test=table-columns]').waitFor()
await page.waitForTimeout(800)
await shoot('tables')
await page.goto(`${url}/t/observatory/transactions/move-hours`)
await page.locator('[data-test=flow] .step').nth(5).waitFor()
await page.click('[data-test=rehearse]')
await page.locator('[data-outcome=rehearsed]').waitFor()
await page.click('[data-test=step-4] button')
await shoot('transaction-rehearsed')
await page.goto(`${url}/t/observatory/transactions/stretch-exposures`)
await page.locator('[data-test=flow] .step').nth(1).waitFor()
await page.click('[data-test=example-2]')
await page.click('[data-test=rehearse]')
await page.locator('[data-outcome=refused]').waitFor()
await shoot('transaction-refused')

await page.goto(`${url}/t/observatory/records/programme`)
await page.getByText('P-107', { exact: true }).click()
await page.fill('[data-test=property-hoursLeft] input', '14.50')
await page.click('[data-test=rehearse]')
await page.locator('[data-outcome=rehearsed]').waitFor()
await shoot('record-rehearsed')

ledgerman('change', 'programme', 'P-107', 'hoursLeft=12.00', 'semester=2027A', '--commit')
await page.click('[data-test=commit]')
await page.locator('[data-test=conflict]').waitFor()
await shoot('conflict')
await page.click('[data-test=keep-mine]')
await page.locator('[data-outcome=rehearsed]').waitFor()
await page.click('[data-test=commit]')
await page.locator('[data-outcome=committed]').waitFor()
ledgerman('change', 'programme', 'P-108', 'hoursLeft=399', '--commit')

await page.goto(`${url}/t/observatory/change-all/programme?where=${encodeURIComponent("semester = '2026A'")}`)
await page.locator('[data-test=assignment]').waitFor()
await page.locator('[data-test=assigned]').first().click()
await page.locator('.v-list-item', { hasText: 'hoursLeft' }).last().click()
await page.fill('[data-test=expression] input', 'round(hoursLeft * 0.9, 2)')
await page.click('[data-test=rehearse]')
await page.locator('[data-test=job][data-state=done]').waitFor()
await shoot('change-all')
await page.goto(`${url}/t/observatory/from-file/programme`)
await page.setInputFiles('[data-test=file]', join(root, 'demo/observatory/files/wrong.csv'))
await page.locator('[data-test=preview]').waitFor()
await page.fill('[data-test=chunk] input', '2')
await page.click('[data-test=rehearse]')
await page.locator('[data-test=job][data-state=done]').waitFor()
await shoot('from-file')

await page.goto(`${url}/t/observatory/book`)
await page.locator('[data-test=entries] tbody tr').first().waitFor()
await shoot('book')
await page.locator('[data-test=entries] tbody tr', { hasText: 'committed' }).first().click()
await page.locator('[data-outcome=committed]').waitFor()
await page.click('[data-test=reverse]')
await page.locator('[data-outcome=rehearsed]').waitFor()
await shoot('entry')

await page.goto(`${url}/t/observatory/records/programme/P-107`)
await page.locator('[data-test=event]').nth(1).waitFor()
await page.locator('[data-test=event]').nth(1).locator('[data-test=show-as-of]').click()
await page.locator('[data-test=as-of] tr.other').first().waitFor()
await shoot('history')
await page.goto(`${url}/t/observatory/code`)
await page.locator('[data-test=file]', { hasText: 'move-hours.ts' }).click()
await page.locator('[data-test=code]', { hasText: 'MoveHoursParams' }).waitFor()
await shoot('code')
await page.goto(`${url}/t/observatory/review`)
await page.setInputFiles('[data-test=files]', join(root, 'examples/review/desk.py'))
await page.locator('[data-test=finding]').first().waitFor()
await shoot('review')

await page.goto(`${url}/t/observatory`)
await page.locator('[data-test=runs-chart] canvas').waitFor()
await shoot('overview')

ledgerman('demo', 'idle', '--seconds', '14', '--code', 'P-121')
await page.goto(`${url}/t/observatory/waits`)
await page.locator('[data-test=waits-picture] .session.root').waitFor()
await page.waitForTimeout(2500)
await shoot('waits')

const chooseRun = async (label, what) => {
  await page.locator(`[data-test=what-${label}] input[type=text]`).fill(what)
  await page.locator('.v-overlay--active .v-list-item', { hasText: what }).first().click()
  await page.waitForTimeout(600)
}
await page.goto(`${url}/t/observatory/drills/move-hours`)
await page.locator('[data-test=A-hours]').waitFor()
await page.click('[data-test=drill]')
await page.locator('[data-test=faults]').waitFor()
await page.locator('[data-test=faults] .v-table__wrapper').evaluate((table) => (table.scrollTop = 480))
await shoot('drill-faults')
await page.click('[data-test=tab-interleaving]')
await chooseRun('A', 'load and save programme')
await chooseRun('B', 'load and save programme')
for (const [label, hours] of [['A', '3.00'], ['B', '4.00']]) {
  await page.locator(`[data-test=${label}-code] textarea`).first().fill('P-107')
  await page.locator(`[data-test=${label}-hoursLeft] textarea`).first().fill(hours)
}
await page.click('[data-test=guards]')
await page.locator('.v-overlay--active .v-list-item', { hasText: 'none' }).click()
await page.keyboard.press('Escape')
await page.click('[data-test=drill]')
await page.locator('[data-test=schedule]').waitFor()
await page.locator('[data-test=schedule]').evaluate((element) => element.scrollIntoView({ block: 'end' }))
await shoot('drill-anomaly')

const session = [
  ['change', 'programme', 'P-112', 'hoursLeft=30.00'],
  ['change', 'programme', 'P-112', 'hoursLeft=30.00', '--if', 'v1', '--commit'],
  ['change', 'programme', 'P-112', 'hoursLeft=29.00', '--if', 'v1', '--commit'],
  ['book', 'list', '--mapping', 'programme', '--key', 'P-112'],
]
const text = session.map((words) => `$ ledgerman ${words.join(' ')}\n${ledgerman(...words)}`).join('\n')
await page.setContent('<pre></pre>')
await page.addStyleTag({ content: 'body { margin: 0; background: #15191a } pre { margin: 0; white-space: pre-wrap; padding: 20px; color: #dfe5e4; font: 14px/1.35 "DejaVu Sans Mono", monospace }' })
await page.evaluate((content) => (document.querySelector('pre').textContent = content), text)
await shoot('terminal-change')
const owner = readFileSync(join(process.env.LEDGERMAN_DATA_DIR ?? join(root, '.ledgerman'), 'observatory_owner.url'), 'utf8').trim()
const altering = `update ledgerman.entry set after[7] = '31.00' where key = '{P-112}' and outcome = 'committed'`
const sealed = ledgerman('book', 'seal')
execFileSync('psql', [owner, '-qc', altering])
const verified = `$ ledgerman book seal\n${sealed}\n$ psql "$OWNER_URL" -qc "${altering}"\n$ ledgerman book verify\n${ledgerman('book', 'verify')}`
await page.evaluate((content) => (document.querySelector('pre').textContent = content), verified)
await shoot('terminal-verify')
await browser.close()
