import type { Job } from '@ledgerman/contract'

/** What a job is about, in a few words. */
export function describeJob({ kind, mapping, condition }: Job): string {
  if (kind === 'reversal') return `put back: ${condition ?? 'entries'}`
  if (kind === 'file') return `${mapping} from a file`
  return condition === 'true' || condition === null ? `every ${mapping}` : `${mapping} where ${condition}`
}

/** The colour of a job's state. */
export const STATE_COLORS: Record<Job['state'], string> = {
  queued: 'secondary',
  running: 'primary',
  done: 'success',
  failed: 'error',
  cancelled: 'warning',
}

/** How far a job is, in words. */
export function describeProgress({ state, progress }: Job): string {
  if (state === 'queued') return 'waits for its turn'
  const { rows, total, perSecond, remainingMs, chunk, phase } = progress
  return [
    phase ?? '',
    `${rows}${total === null ? '' : ` of ${total}`} ${(total ?? rows) === 1 ? 'row' : 'rows'}`,
    chunk === null ? '' : `chunk ${chunk}`,
    perSecond ? `${perSecond} a second` : '',
    remainingMs ? `${Math.max(1, Math.round(remainingMs / 1000))} s left` : '',
  ]
    .filter(Boolean)
    .join(' · ')
}
