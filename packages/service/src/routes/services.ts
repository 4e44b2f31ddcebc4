import type { SealSigner } from '@ledgerman/seal'
import type { TokenStore } from '../home/token-store.js'
import type { HomeDatabase } from '../home/home-database.js'
import type { RehearsalStore } from '../home/rehearsal-store.js'
import type { Metrics } from '../metrics/metrics.js'
import type { ServiceConfig } from '../config/service-config.js'
import type { JobRunner } from '../jobs/job-runner.js'
import type { JobStore } from '../jobs/job-store.js'
import type { OpenWalks } from '../drills/open-walks.js'
import type { ReadingThread } from '@ledgerman/review'
import type { BegunRuns } from '../runs/begun-runs.js'
import type { TargetRegistry } from '../targets/target-registry.js'

/** What the routes work with. */
export interface Services {
  home: HomeDatabase
  tokens: TokenStore
  targets: TargetRegistry
  rehearsals: RehearsalStore
  begunRuns: BegunRuns
  metrics: Metrics
  openWalks: OpenWalks
  jobs: JobStore
  runner: JobRunner
  signer: SealSigner
  reading: ReadingThread
  jobLimits: ServiceConfig['jobs']
  /** The home database's address: drills make databases beside it. */
  homeUrl: string
}
