import { computed, ref, type Ref } from 'vue'
import {
  isProblem,
  printJson,
  type LockHolder,
  type Receipt,
  type RunMode,
  type TransactionInfo,
} from '@ledgerman/contract'
import { client } from '../client.js'
import { exampleTexts, paramValues } from './param-form.js'

/** A form for a transaction's parameters, prefilled from its examples, and what came of running it. */
export function useTransactionRun(target: Ref<string>, transaction: Ref<TransactionInfo | null>) {
  const params = ref<Record<string, string>>({})
  const receipt = ref<Receipt | null>(null)
  const problem = ref<unknown>(null)
  const isBusy = ref(false)
  /** Who holds the lock that the run waits for. */
  const waiting = ref<LockHolder[]>([])
  /** Whether the parameters are still those that were rehearsed. */
  const rehearsed = ref('')
  const canCommit = computed(
    () => receipt.value?.outcome === 'rehearsed' && rehearsed.value === printJson(params.value),
  )
  const shownReceipt = computed(() => {
    if (receipt.value) return receipt.value
    return isProblem(problem.value) ? ((problem.value.facts['receipt'] as Receipt | undefined) ?? null) : null
  })
  const refusedAt = computed(() =>
    isProblem(problem.value) ? ((problem.value.facts['step'] as number | undefined) ?? null) : null,
  )

  function takeExample(at: number): void {
    params.value = transaction.value ? exampleTexts(transaction.value, at) : {}
    receipt.value = null
    problem.value = null
  }

  async function run(mode: RunMode): Promise<void> {
    const { value: info } = transaction
    if (!info) return
    isBusy.value = true
    problem.value = null
    const token = mode === 'commit' ? receipt.value?.rehearsal : undefined
    try {
      const told = await client.target(target.value).run(
        {
          mode,
          transaction: info.name,
          params: paramValues(info.definition.params, params.value),
          ...(token ? { rehearsal: token } : {}),
        },
        { onWait: (holders) => (waiting.value = holders) },
      )
      receipt.value = told
      rehearsed.value = mode === 'rehearse' ? printJson(params.value) : ''
    } catch (error) {
      receipt.value = null
      problem.value = error
    } finally {
      isBusy.value = false
      waiting.value = []
    }
  }

  return { params, receipt, shownReceipt, refusedAt, problem, isBusy, waiting, canCommit, takeExample, run }
}
