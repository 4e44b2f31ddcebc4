import { pino } from 'pino'
import { readServiceConfig } from './config/service-config.js'
import { startService } from './service.js'

try {
  const config = readServiceConfig(process.env)
  // Lines are written in the background, twice a second at the latest: a request does not wait for its own log.
  const lines = pino.destination({ sync: false, minLength: 4096 })
  setInterval(() => lines.flush(), 500).unref()
  const log = pino({ level: config.logLevel, base: null }, lines)
  const service = await startService(config, log)
  let isStopping = false
  for (const signal of ['SIGTERM', 'SIGINT'] as const) {
    process.on(signal, () => {
      if (isStopping) return
      isStopping = true
      log.info({ signal }, 'stopping')
      service.stop().then(
        () => lines.flush(() => process.exit(0)),
        (error: unknown) => {
          log.error({ error: String(error) }, 'stop failed')
          process.exit(1)
        },
      )
    })
  }
} catch (error) {
  process.stderr.write(`ledgerman-service: ${error instanceof Error ? error.message : String(error)}\n`)
  process.exit(1)
}
