import { pino } from 'pino'
import { readServiceConfig } from './config/service-config.js'
import { startService } from './service.js'

/** How many bytes of log wait for a disk that takes none; what comes then is dropped. */
const MOST_LOG_WAITING = 4 * 2 ** 20

try {
  const config = readServiceConfig(process.env)
  // Lines are written in the background, twice a second at the latest: a request does not wait for its own log.
  const lines = pino.destination({ sync: false, minLength: 4096, maxLength: MOST_LOG_WAITING })
  // A full disk is no reason to stop changing records: what cannot be logged is lost, what is asked for is done.
  lines.on('error', () => undefined)
  setInterval(() => lines.flush(), 500).unref()
  const log = pino({ level: config.logLevel, base: null }, lines)
  const service = await startService(config, log)
  let isStopping = false
  for (const signal of ['SIGTERM', 'SIGINT'] as const) {
    process.on(signal, () => {
      // Whoever asks twice does not want to wait.
      if (isStopping) process.exit(1)
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
