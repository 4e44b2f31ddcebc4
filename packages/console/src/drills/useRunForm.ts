import { computed, reactive, watch, type Ref } from 'vue'
import { propertyFromText } from '@ledgerman/client'
import { type DrilledRun, type MappingInfo, type TransactionInfo } from '@ledgerman/contract'
import { client } from '../client.js'
import { exampleTexts, paramValues } from '../transactions/param-form.js'

export interface RunField {
  name: string
  label: string
  hint: string | undefined
}

/** A form for one drilled run: a transaction with its parameters, or the load and save of one record. */
export function useRunForm(target: Ref<string>) {
  const form = reactive({
    /** `transaction NAME` or `mapping NAME`; empty where none was chosen. */
    what: '',
    values: {} as Record<string, string>,
    transaction: null as TransactionInfo | null,
    mapping: null as MappingInfo | null,
    problem: null as unknown,
  })

  watch(
    () => form.what,
    async (what) => {
      const [kind, name = ''] = what.split(' ')
      form.transaction = form.mapping = null
      form.values = {}
      form.problem = null
      if (name === '') return
      try {
        if (kind === 'transaction') {
          const found = await client.target(target.value).transaction(name)
          if (form.what !== what) return
          form.transaction = found
          takeExample(0)
        } else {
          const found = await client.target(target.value).mapping(name)
          if (form.what === what) form.mapping = found
        }
      } catch (error) {
        form.problem = error
      }
    },
  )

  const fields = computed((): RunField[] => {
    if (form.transaction)
      return Object.entries(form.transaction.definition.params ?? {}).map(([name, { type, rule }]) => ({
        name,
        label: `${name} (${type})`,
        hint: rule,
      }))
    if (!form.mapping) return []
    const { key, properties } = form.mapping
    if (!properties) return []
    const settable = properties.filter(({ name, writable }) => writable && !key.includes(name))
    return [
      ...key.map((name) => ({ name, label: name, hint: 'the key' })),
      ...settable.map(({ name, type }) => ({ name, label: `${name} (${type})`, hint: undefined })),
    ]
  })

  function takeExample(at: number): void {
    form.values = form.transaction ? exampleTexts(form.transaction, at) : {}
  }

  /** What was filled in, as the interface takes it; undefined where nothing was chosen. @throws LedgermanProblem value-invalid */
  function toRun(): DrilledRun | undefined {
    if (form.transaction)
      return {
        transaction: form.transaction.name,
        params: paramValues(form.transaction.definition.params, form.values),
      }
    if (!form.mapping) return undefined
    const { name, key, properties } = form.mapping
    const filled = Object.entries(form.values)
      .filter(([, text]) => text !== '')
      .map(([name, text]) => {
        const property = properties?.find((each) => each.name === name)
        return [name, property ? propertyFromText(property, text) : text] as const
      })
    return {
      mapping: name,
      key: Object.fromEntries(filled.filter(([property]) => key.includes(property))),
      values: Object.fromEntries(filled.filter(([property]) => !key.includes(property))),
    }
  }

  return { form, fields, takeExample, toRun }
}
