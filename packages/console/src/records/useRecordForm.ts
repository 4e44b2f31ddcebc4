import { computed, nextTick, reactive, ref, watch } from 'vue'
import { toField, type FieldState } from './field-state.js'
import { propertyFromText } from '@ledgerman/client'
import {
  fromRecordAddress,
  isProblem,
  printJson,
  type EntrySummary,
  type LedgermanProblem,
  type LockHolder,
  type MappingInfo,
  type PropertyInfo,
  type Receipt,
  type RecordValues,
  type RunMode,
} from '@ledgerman/contract'
import { useGuide } from '../guide/useGuide.js'
import { client } from '../client.js'
import { focusFirst, refusedProperties } from '../problems/refused-properties.js'
import { useDraft } from '../drafts/useDraft.js'
import { addressOf } from './record-address.js'

/** A record that was changed after it was loaded: what is there now, and what the book knows of who changed it. */
export interface Conflict {
  problem: LedgermanProblem
  yours: RecordValues
  current: RecordValues
  loaded: RecordValues
  /** What they changed, and where both did; null where that is not known. */
  theirs: string[]
  overlap: string[] | null
  by: Record<string, { actor: string; at: string }>
  newest: EntrySummary | undefined
}

/** One record being looked at and changed: as it was loaded, as it is in the form, and what came of the last run. */
export function useRecordForm() {
  const mapping = ref<MappingInfo | null>(null)
  const loaded = ref<RecordValues | null>(null)
  const guard = ref<string | null>(null)
  const fields = reactive<Record<string, FieldState>>({})
  const receipt = ref<Receipt | null>(null)
  const problem = ref<unknown>(null)
  const conflict = ref<Conflict | null>(null)
  const isBusy = ref(false)
  const isRemoved = ref(false)
  /** Who holds the lock that the last run waits for; empty while it does not. */
  const waiting = ref<LockHolder[]>([])
  let place = { target: '', mapping: '', key: [] as string[] }
  /** The record's address, where a commit gave it another key. */
  const movedTo = ref<string | null>(null)

  const properties = computed(() => mapping.value?.properties ?? [])
  const pending = computed(() => properties.value.filter((property) => property.writable && isEdited(property)))
  const fieldErrors = computed(() => Object.fromEntries(pending.value.flatMap((property) => errorOf(property))))
  /** What a refusal says of single properties. */
  const marks = computed(() => refusedProperties(problem.value))
  watch(marks, (now) => {
    const order = properties.value.map(({ name }) => name).filter((name) => name in now)
    // What was edited is likelier to be mended than what stands beside it.
    const edited = pending.value.map(({ name }) => name)
    void nextTick(() =>
      focusFirst([...order].sort((one, other) => Number(edited.includes(other)) - Number(edited.includes(one)))),
    )
  })
  const canRun = computed(
    () => pending.value.length > 0 && !isRemoved.value && Object.keys(fieldErrors.value).length === 0 && !isBusy.value,
  )

  async function open(target: string, mappingName: string, address: string): Promise<void> {
    // It is open already, with what was committed.
    if (address === movedTo.value) return
    movedTo.value = null
    receipt.value = null
    isRemoved.value = false
    await attempt(async () => {
      place = { target, mapping: mappingName, key: fromRecordAddress(address) }
      const of = client.target(target)
      const [info, record] = await Promise.all([of.mapping(mappingName), of.load(mappingName, place.key)])
      mapping.value = info
      take(record.record, record.guard)
    })
  }

  /** Runs the pending change. True where it was committed. */
  async function run(mode: RunMode): Promise<boolean> {
    const values = Object.fromEntries(pending.value.map((property) => [property.name, valueOf(property)]))
    let isCommitted = false
    await attempt(async () => {
      const changed = await client.target(place.target).change(place.mapping, place.key, values, {
        mode,
        guard: guard.value ?? undefined,
        loaded: pick(loaded.value, Object.keys(values)),
        onWait: (holders) => (waiting.value = holders),
      })
      receipt.value = changed.receipt
      useGuide().did(mode === 'rehearse' ? 'rehearse' : 'commit')
      if (mode === 'commit') {
        isCommitted = true
        take(changed.record, changed.guard)
        const keys = mapping.value?.key ?? []
        if (keys.some((name) => name in values)) moveTo(addressOf(keys, changed.record))
      }
    })
    return isCommitted
  }

  function moveTo(address: string): void {
    place = { ...place, key: fromRecordAddress(address) }
    movedTo.value = address
  }

  /** Puts the pending change into the draft, guarded by the record as it was loaded here; the form is as loaded again. */
  async function stage(): Promise<void> {
    const values = Object.fromEntries(pending.value.map((property) => [property.name, valueOf(property)]))
    const { value: record } = loaded
    if (!record) return
    await attempt(async () => {
      await useDraft(place.target).stage(place.mapping, { record, guard: guard.value }, values)
      receipt.value = null
      for (const property of pending.value) reset(property)
    })
  }

  /** Removes the record. True where it was committed; the form then shows what it was. */
  async function remove(): Promise<boolean> {
    await attempt(async () => {
      const removed = await client
        .target(place.target)
        .remove(place.mapping, place.key, { guard: guard.value ?? undefined })
      receipt.value = removed.receipt
      isRemoved.value = true
    })
    return isRemoved.value
  }

  /**
   * Takes the current record and puts those of the edits back that are to be kept; what would change then is rehearsed, to be seen
   * before it is committed.
   */
  async function solve(keep: readonly string[]): Promise<void> {
    const edits = pending.value.flatMap((property) =>
      keep.includes(property.name) ? [[property.name, { ...fieldOf(property) }] as const] : [],
    )
    await attempt(async () => {
      const record = await client.target(place.target).load(place.mapping, place.key)
      receipt.value = null
      take(record.record, record.guard)
      for (const [name, state] of edits) fields[name] = state
    })
    if (canRun.value) await run('rehearse')
  }

  function reset(property: PropertyInfo): void {
    fields[property.name] = toField(property, loaded.value?.[property.name])
  }

  function take(record: RecordValues, newGuard: string | null): void {
    loaded.value = record
    guard.value = newGuard
    for (const property of properties.value) fields[property.name] = toField(property, record[property.name])
  }

  async function attempt(work: () => Promise<void>): Promise<void> {
    isBusy.value = true
    problem.value = null
    conflict.value = null
    try {
      await work()
    } catch (error) {
      if (isProblem(error, 'record-changed')) conflict.value = await describeConflict(error)
      else problem.value = error
      if (isProblem(error)) receipt.value = (error.facts['receipt'] as Receipt | undefined) ?? null
    } finally {
      isBusy.value = false
      waiting.value = []
    }
  }

  async function describeConflict(error: LedgermanProblem): Promise<Conflict> {
    const {
      yours = {},
      current = {},
      loaded: before = {},
      theirs = [],
      overlap = null,
      by = {},
    } = error.facts as Partial<Omit<Conflict, 'problem' | 'newest'>>
    const newest = await client
      .target(place.target)
      .entries({ mapping: place.mapping, key: place.key, outcome: 'committed', limit: 1 })
      .then(
        (page) => page.entries[0],
        () => undefined,
      )
    return { problem: error, yours, current, loaded: before, theirs, overlap, by, newest }
  }

  function fieldOf({ name }: PropertyInfo): FieldState {
    return fields[name] ?? { text: '', isNull: true }
  }

  function isEdited(property: PropertyInfo): boolean {
    const [now, before] = [fieldOf(property), toField(property, loaded.value?.[property.name])]
    return now.isNull !== before.isNull || (!now.isNull && now.text !== before.text)
  }

  function valueOf(property: PropertyInfo): unknown {
    const { text, isNull } = fieldOf(property)
    return isNull ? null : propertyFromText(property, text)
  }

  function errorOf(property: PropertyInfo): [string, string][] {
    try {
      printJson(valueOf(property))
      return []
    } catch (error) {
      return [[property.name, isProblem(error) ? error.detail : String(error)]]
    }
  }

  return {
    mapping,
    loaded,
    guard,
    fields,
    properties,
    pending,
    fieldErrors,
    marks,
    receipt,
    problem,
    conflict,
    isBusy,
    isRemoved,
    remove,
    stage,
    canRun,
    open,
    movedTo,
    run,
    solve,
    waiting,
    reset,
    isEdited,
  }
}

function pick(values: RecordValues | null, names: string[]): RecordValues {
  return Object.fromEntries(names.map((name) => [name, values?.[name]]))
}
