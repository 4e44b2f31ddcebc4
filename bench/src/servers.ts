import { spawn, type ChildProcess } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { setTimeout as delay } from 'node:timers/promises'
import { findFreePort } from '@ledgerman/local'

export interface Servers {
  ours: string
  token: string
  theirs: string
  stop(): void
}

/** Ledgerman's service and a hand-written one, each a process of its own on the same database. */
export async function startServers(homeUrl: string, targetUrl: string): Promise<Servers> {
  const folder = mkdtempSync(join(tmpdir(), 'ledgerman-bench-'))
  const [ourPort, theirPort] = [await findFreePort(), await findFreePort()]
  const configFile = join(folder, 'config.yaml')
  const target = { url: 'env:BENCH_TARGET', connections: 16 }
  writeFileSync(
    configFile,
    JSON.stringify({
      port: ourPort,
      dataDir: folder,
      logLevel: 'info',
      home: { url: 'env:BENCH_HOME' },
      targets: { bench: target },
    }),
  )
  const env = {
    ...process.env,
    LEDGERMAN_CONFIG: configFile,
    BENCH_TARGET: targetUrl,
    BENCH_HOME: homeUrl,
    LEDGERMAN_PORT: '',
    LEDGERMAN_DATA_DIR: '',
  }
  const children: ChildProcess[] = [
    spawn(process.execPath, [join(import.meta.dirname, '../../packages/service/bin/ledgerman-service.js')], {
      env,
      stdio: ['ignore', 'ignore', 'inherit'],
    }),
    spawn(process.execPath, [join(import.meta.dirname, 'hand-written-server.js'), String(theirPort), targetUrl], {
      stdio: ['ignore', 'inherit', 'inherit'],
    }),
  ]
  const [ours, theirs] = [`http://127.0.0.1:${ourPort}`, `http://127.0.0.1:${theirPort}`]
  for (const url of [`${ours}/readyz`, `${theirs}/allocations/1`]) {
    while (
      !(await fetch(url).then(
        (answer) => answer.ok,
        () => false,
      ))
    )
      await delay(50)
  }
  return {
    ours,
    theirs,
    token: readFileSync(join(folder, 'admin-token'), 'utf8').trim(),
    stop() {
      for (const child of children) child.kill()
      rmSync(folder, { recursive: true, force: true })
    },
  }
}
