import { loadModule } from 'libpg-query'

let loading: Promise<void> | undefined

/** Loads PostgreSQL's own grammar, once: reading a statement is possible from then on. */
export function loadGrammar(): Promise<void> {
  return (loading ??= loadModule())
}
