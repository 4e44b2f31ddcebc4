import { chromium } from 'playwright-core'
import { readFileSync } from 'node:fs'
const [,, path, out, ...clicks] = process.argv
const token = readFileSync('/tmp/lmdata2/admin-token','utf8').trim()
const b = await chromium.launch({ executablePath: '/usr/bin/chromium', args: ['--no-sandbox','--disable-gpu','--disable-quic','--no-first-run','--disable-background-networking','--disable-component-update','--disable-sync'] })
const p = await (await b.newContext({ viewport: { width: Number(process.env.W ?? 1280), height: 800 }, colorScheme: process.env.DARK ? 'dark':'light' })).newPage()
p.setDefaultTimeout(15000)
p.on('console', m => m.type()==='error' && console.log('console', m.text()))
await p.goto('http://127.0.0.1:4682/'); await p.fill('input[name=token]', token); await p.click('button[type=submit]'); await p.locator('[data-test=records] tbody tr').first().waitFor()
await p.goto('http://127.0.0.1:4682'+path); await p.waitForTimeout(1500)
for (const c of clicks) { if (c.startsWith('fill:')) { const [,s,v]=c.split('§'); await p.fill(s,v) } else await p.click(c); await p.waitForTimeout(1000) }
await p.screenshot({ path: out }); await b.close()
