import { propertyToText } from '@ledgerman/client'
import { printJson, type PropertyInfo } from '@ledgerman/contract'

/** What a form field holds while it is edited: text, or null apart from it. */
export interface FieldState {
  text: string
  isNull: boolean
}

/** A value as its field shows it; json is laid out over lines. */
export function toField({ kind }: PropertyInfo, value: unknown): FieldState {
  if (value === null || value === undefined) return { text: '', isNull: true }
  return { text: kind === 'json' || kind === 'jsonb' ? printJson(value, 2) : propertyToText(value), isNull: false }
}
