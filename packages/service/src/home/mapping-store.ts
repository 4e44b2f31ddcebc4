import { isDeepStrictEqual } from 'node:util'
import { LRUCache } from 'lru-cache'
import { LedgermanProblem, suggestName, type MappingDefinition, type MappingSummary } from '@ledgerman/contract'
import type { HomeDatabase } from './home-database.js'

/** One published revision of a mapping. */
export interface MappingRevision {
  target: string
  name: string
  revision: number
  definition: MappingDefinition
  source: string
  publishedAt: string
  publishedBy: string
}

/** For how long a definition is used without asking the home database again, in milliseconds: how late another service may notice a new revision. */
const KEEP_MS = 1_000

/** Published mappings: every revision is kept, numbered, with its source text. */
export class MappingStore {
  readonly #latest = new LRUCache<string, { found: MappingRevision | undefined }>({ max: 5_000, ttl: KEEP_MS })
  readonly #revisions = new LRUCache<string, MappingRevision>({ max: 5_000 })

  constructor(readonly home: HomeDatabase) {}

  /** @throws LedgermanProblem not-found with the nearest name there is. */
  async get(target: string, name: string): Promise<MappingRevision> {
    const found = await this.find(target, name)
    if (found) return found
    const names = (await this.list(target)).map((each) => each.name)
    throw new LedgermanProblem('not-found', `${target} has no mapping ${name}; ${suggestName(name, names)}`, {
      mapping: name,
    })
  }

  async find(target: string, name: string): Promise<MappingRevision | undefined> {
    const key = latestKey(target, name)
    const kept = this.#latest.get(key)
    if (kept) return kept.found
    const [row] = await this.home.query<DefinitionRow>(
      `${SELECT} where target = $1 and kind = 'mapping' and name = $2 order by revision desc limit 1`,
      [target, name],
    )
    const found = row?.content ? toRevision(row) : undefined
    this.#latest.set(key, { found })
    return found
  }

  /** One revision; those never change, so they are kept. @throws LedgermanProblem not-found */
  async getRevision(target: string, name: string, revision: number): Promise<MappingRevision> {
    const key = JSON.stringify([target, name, revision])
    const kept = this.#revisions.get(key)
    if (kept) return kept
    const [row] = await this.home.query<DefinitionRow>(
      `${SELECT} where target = $1 and kind = 'mapping' and name = $2 and revision = $3`,
      [target, name, revision],
    )
    if (!row?.content)
      throw new LedgermanProblem('not-found', `${target} has no revision ${revision} of a mapping ${name}.`, {
        mapping: name,
        revision,
      })
    const found = toRevision(row)
    this.#revisions.set(key, found)
    return found
  }

  async list(target: string): Promise<MappingSummary[]> {
    const rows = await this.home.query<DefinitionRow>(
      `select * from (select distinct on (name) * from ledgerman_home.definition where target = $1 and kind = 'mapping' order by name, revision desc) latest where content is not null order by name`,
      [target],
    )
    return rows.map((row) => toSummary(toRevision(row)))
  }

  /**
   * Publishes a definition. The same content as the latest revision gives no new one.
   *
   * @param expected what the caller knows of the latest revision: its number, 'none' where there must not be one, or undefined.
   * @throws LedgermanProblem record-changed where the latest revision is not the expected one.
   */
  async publish(
    target: string,
    definition: MappingDefinition,
    source: string,
    actor: string,
    expected?: number | 'none',
  ): Promise<{ revision: MappingRevision; isNew: boolean }> {
    const name = definition.mapping
    const outcome = await this.#append(target, name, expected, (latest) =>
      latest && isDeepStrictEqual(latest.content, definition) ? null : { content: definition, source, actor },
    )
    return { revision: toRevision(outcome.row), isNew: outcome.isNew }
  }

  /** Removes a mapping; its revisions stay readable. @throws LedgermanProblem record-changed */
  async remove(target: string, name: string, actor: string, expected?: number): Promise<void> {
    await this.get(target, name)
    await this.#append(target, name, expected, () => ({ content: null, source: null, actor }))
  }

  async #append(
    target: string,
    name: string,
    expected: number | 'none' | undefined,
    next: (
      latest: DefinitionRow | undefined,
    ) => { content: MappingDefinition | null; source: string | null; actor: string } | null,
  ): Promise<{ row: DefinitionRow; isNew: boolean }> {
    const result = await this.home.transaction(async (query) => {
      await query('select pg_advisory_xact_lock(hashtextextended($1, 0))', [JSON.stringify(['mapping', target, name])])
      const [latest] = await query<DefinitionRow>(
        `${SELECT} where target = $1 and kind = 'mapping' and name = $2 order by revision desc limit 1`,
        [target, name],
      )
      const published = latest?.content ? latest : undefined
      if (expected !== undefined && expected !== (published?.revision ?? 'none'))
        throw revisionChanged(name, expected, published?.revision)
      const row = next(published)
      if (row === null && latest) return { row: latest, isNew: false }
      const [added] = await query<DefinitionRow>(
        `insert into ledgerman_home.definition (target, kind, name, revision, content, source, published_by) values ($1, 'mapping', $2, $3, $4, $5, $6) returning *`,
        [
          target,
          name,
          (latest?.revision ?? 0) + 1,
          row?.content ? JSON.stringify(row.content) : null,
          row?.source ?? null,
          row?.actor,
        ],
      )
      return { row: added as DefinitionRow, isNew: true }
    })
    this.#latest.delete(latestKey(target, name))
    return result
  }
}

/** Names of targets hold no slash. */
function latestKey(target: string, name: string): string {
  return `${target}/${name}`
}

interface DefinitionRow {
  target: string
  name: string
  revision: number
  content: MappingDefinition | null
  source: string | null
  published_at: Date
  published_by: string
}

const SELECT = 'select * from ledgerman_home.definition'

function toRevision(row: DefinitionRow): MappingRevision {
  return {
    target: row.target,
    name: row.name,
    revision: row.revision,
    definition: row.content as MappingDefinition,
    source: row.source ?? '',
    publishedAt: row.published_at.toISOString(),
    publishedBy: row.published_by,
  }
}

export function toSummary({ name, definition, revision, publishedAt, publishedBy }: MappingRevision): MappingSummary {
  return {
    name,
    table: definition.table,
    key: definition.key,
    guard: definition.guard.by,
    revision,
    publishedAt,
    publishedBy,
  }
}

function revisionChanged(name: string, expected: number | 'none', current: number | undefined): LedgermanProblem {
  return new LedgermanProblem(
    'record-changed',
    expected === 'none'
      ? `There is a mapping ${name} already, at revision ${current}.`
      : `The mapping ${name} is at ${current === undefined ? 'no revision' : `revision ${current}`}, not ${expected}: somebody published meanwhile. Look at theirs first.`,
    { mapping: name, yours: { revision: expected }, current: { revision: current ?? null }, loaded: null },
  )
}
