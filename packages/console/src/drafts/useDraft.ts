import { ref, type Ref } from 'vue'
import type { Draft, PendingChange } from '@ledgerman/client'
import { printJson, type LoadedRecord, type Receipt, type RecordValues, type RunMode } from '@ledgerman/contract'
import { client } from '../client.js'

/** Changes of several records of one target, to be committed as one: kept while the page is open. */
export interface SharedDraft {
  pending: Ref<PendingChange[]>
  /** Takes a change up, guarded by the record as it was loaded. */
  stage(mapping: string, loaded: LoadedRecord, values: RecordValues): Promise<void>
  /** Lets the change at that place of `pending` go. */
  forget(at: number): Promise<void>
  /** Guards the change at that place by the record as it is now: what was seen of it since then is accepted. */
  renew(at: number): Promise<void>
  run(mode: RunMode, rehearsal?: string | null): Promise<Receipt>
}

const drafts = new Map<string, SharedDraft>()

// What was not committed is not lost without a word.
window.addEventListener('beforeunload', (event) => {
  if ([...drafts.values()].some(({ pending }) => pending.value.length > 0)) event.preventDefault()
})

/** The draft of a target, the same wherever it is asked for. */
export function useDraft(target: string): SharedDraft {
  let shared = drafts.get(target)
  if (!shared) drafts.set(target, (shared = makeDraft(target)))
  return shared
}

function makeDraft(target: string): SharedDraft {
  const draft: Draft<Record<string, RecordValues>> = client.draft(target)
  const pending = ref<PendingChange[]>([])
  const objects = new Map<string, RecordValues>()
  const placeOf = (mapping: string, key: RecordValues | null) => `${mapping} ${printJson(key)}`
  const refresh = () => (pending.value = draft.pending())
  const changeAt = (at: number) => {
    const change = pending.value[at]
    const object = change && objects.get(placeOf(change.mapping, change.key))
    return object && { change, object }
  }

  return {
    pending,
    async stage(mapping, loaded, values) {
      const object = await draft.adopt(mapping, loaded)
      Object.assign(object, values)
      const { key: names } = await client.target(target).mapping(mapping)
      const key = Object.fromEntries(names.map((name) => [name, loaded.record[name]]))
      objects.set(placeOf(mapping, key), object)
      refresh()
    },
    forget(at) {
      const found = changeAt(at)
      if (found) draft.forget(found.object)
      refresh()
      return Promise.resolve()
    },
    async renew(at) {
      const found = changeAt(at)
      if (!found) return
      const { mapping, key } = found.change
      const info = await client.target(target).mapping(mapping)
      const words = info.key.map((name) => String(key?.[name] ?? ''))
      await draft.adopt(mapping, await client.target(target).load(mapping, words))
      refresh()
    },
    async run(mode, rehearsal) {
      try {
        return mode === 'rehearse' ? await draft.rehearse() : await draft.commit(rehearsal ? { rehearsal } : {})
      } finally {
        refresh()
      }
    },
  }
}
