import { computed, onBeforeUnmount, ref } from 'vue'
import type { Job } from '@ledgerman/contract'
import { client } from '../client.js'

/** A job that a page shows: begun here or found, followed to its end. Leaving the page does not end it. */
export function useJob() {
  const job = ref<Job | null>(null)
  const problem = ref<unknown>(null)
  const isBeginning = ref(false)
  const isOpen = computed(() => job.value?.state === 'queued' || job.value?.state === 'running')
  const isBusy = computed(() => isBeginning.value || isOpen.value)
  /** The token of the rehearsal that stands here, by which exactly that can be committed. */
  const rehearsal = computed(() =>
    job.value?.state === 'done' && job.value.mode === 'rehearse' ? job.value.rehearsal : null,
  )
  const canCommit = computed(() => !isBusy.value && rehearsal.value !== null && (job.value?.report?.changed ?? 0) > 0)
  let following: AbortController | undefined

  /** Begins one, or has one go on, and follows it. */
  async function follow(begin: () => Promise<Job>): Promise<void> {
    following?.abort()
    const own = (following = new AbortController())
    problem.value = null
    isBeginning.value = true
    try {
      job.value = await begin()
      isBeginning.value = false
      for await (const now of client.followJob(job.value.id, own.signal)) job.value = now
    } catch (error) {
      if (!own.signal.aborted) problem.value = error
    } finally {
      if (following === own) isBeginning.value = false
    }
  }

  function forget(): void {
    following?.abort()
    job.value = null
    problem.value = null
  }

  async function cancel(): Promise<void> {
    try {
      if (job.value) await client.cancelJob(job.value.id)
    } catch (error) {
      problem.value = error
    }
  }

  onBeforeUnmount(() => following?.abort())
  return { job, problem, isBusy, rehearsal, canCommit, follow, forget, cancel }
}
