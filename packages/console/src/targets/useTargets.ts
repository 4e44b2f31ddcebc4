import { ref } from 'vue'
import type { TargetInfo } from '@ledgerman/contract'
import { client } from '../client.js'

const targets = ref<TargetInfo[]>([])

/** The targets this session may see. */
export function useTargets() {
  async function refresh(): Promise<void> {
    targets.value = await client.targets()
  }
  return { targets, refresh }
}
