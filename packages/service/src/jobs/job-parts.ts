import type { JobReport } from '@ledgerman/contract'
import type { RehearsalStore } from '../home/rehearsal-store.js'
import type { TargetRegistry } from '../targets/target-registry.js'
import type { JobStore } from './job-store.js'

/** What a job is run with. */
export interface JobParts {
  jobs: JobStore
  targets: TargetRegistry
  rehearsals: RehearsalStore
  instance: string
  timeLimitMs: number
  /** Whether the job is still this service's. */
  isHeld: () => Promise<boolean>
}

/** What became of a job that did not fail. */
export interface JobDone {
  report: JobReport
  entry: string | null
  rehearsal: string | null
}
