import { setTimeout as pause } from 'node:timers/promises'
import { chromium, type Browser, type Locator, type Page } from 'playwright-core'
import { startTestService, type RunningService } from '../../../testing/running-service.js'

// Chromium's own pages for its address bar, which no test opens, cost each window a second of processor time. The last such flag
// counts, so that those of Playwright that matter on loopback are said again.
const NOT_NEEDED = [
  ...['WebUIOmniboxPopup', 'WebUIOmniboxAimPopup', 'WebUIOmniboxFullPopup', 'AimEnabled', 'LensOverlay', 'MediaRouter'],
  ...['HttpsUpgrades', 'HttpsFirstBalancedModeAutoEnable', 'OptimizationHints', 'NetworkTimeServiceQuerying'],
  ...['AvoidUnnecessaryBeforeUnloadCheckSync', 'DestroyProfileOnBrowserClose', 'PaintHolding', 'PreconnectToSearch'],
]

const FLAGS = [
  `--disable-features=${NOT_NEEDED.join(',')}`,
  '--no-sandbox',
  '--disable-gpu',
  '--disable-quic',
  '--no-first-run',
  '--disable-background-networking',
  '--disable-component-update',
  '--disable-sync',
]

/** The console of a service of its own, in a browser. */
export interface OpenConsole {
  service: RunningService
  /** A page of a person of their own, signed in; as the admin where no token is given. */
  person(token?: string): Promise<Page>
  close(): Promise<void>
}

export async function openConsole(): Promise<OpenConsole> {
  const service = await startTestService()
  const browser: Browser = await chromium.launch({ executablePath: '/usr/bin/chromium', args: FLAGS })
  return {
    service,
    async person(token = service.token) {
      const page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage()
      page.setDefaultTimeout(30_000)
      await page.goto(service.url)
      await page.fill('input[name=token]', token)
      await page.click('button[type=submit]')
      await page.locator('[data-test=attention]').waitFor()
      return page
    },
    async close() {
      await browser.close()
      await service.stop()
    },
  }
}

/** What is there may still be drawn, placed or filled: asserts until it holds, and fails as the last try did. */
export async function soon(assertion: () => Promise<void>): Promise<void> {
  const end = performance.now() + 30_000
  for (;;) {
    try {
      return await assertion()
    } catch (error) {
      if (performance.now() > end) throw error
      await pause(50)
    }
  }
}

export const shows = (place: Locator, words: RegExp | string) =>
  soon(async () => {
    const shown = await place.innerText()
    if (typeof words === 'string') expect(shown).toBe(words)
    else expect(shown).toMatch(words)
  })

export const holds = (field: Locator, value: string) => soon(async () => expect(await field.inputValue()).toBe(value))

export const isDisabled = (button: Locator) => soon(async () => expect(await button.isDisabled()).toBe(true))
