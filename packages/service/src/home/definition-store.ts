import { isDeepStrictEqual } from 'node:util'
import { LRUCache } from 'lru-cache'
import {
  LedgermanProblem,
  parseJson,
  printJson,
  suggestName,
  type DefinitionKind,
  type MappingDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import type { HomeDatabase, HomeQuery } from './home-database.js'
import { KeptAnswers } from './kept-answers.js'

interface DefinitionOf {
  mapping: MappingDefinition
  transaction: TransactionDefinition
}

/** One published revision of a definition. */
export interface Revision<Kind extends DefinitionKind> {
  target: string
  kind: Kind
  name: string
  revision: number
  definition: DefinitionOf[Kind]
  source: string
  publishedAt: string
  publishedBy: string
}

export type MappingRevision = Revision<'mapping'>
export type TransactionRevision = Revision<'transaction'>

/** What the caller knows of the latest revision: its number, that there is one, or that there must not be one. */
export type ExpectedRevision = number | 'some' | 'none'

/** A definition to be published, or, where it is null, to be withdrawn. */
export type NewDefinition = {
  kind: DefinitionKind
  name: string
  expected?: ExpectedRevision | undefined
} & ({ definition: MappingDefinition | TransactionDefinition; source: string } | { definition: null })

/** For how long a definition is used without asking the home database again, in milliseconds: how late another service may notice a new revision. */
const KEEP_MS = 1_000

/** Published definitions of one kind: every revision is kept, numbered, with its source text. */
export class DefinitionStore<Kind extends DefinitionKind> {
  readonly #latest = new KeptAnswers<Revision<Kind> | undefined>(5_000, KEEP_MS)
  readonly #revisions = new LRUCache<string, Revision<Kind>>({ max: 5_000 })

  constructor(
    readonly home: HomeDatabase,
    readonly kind: Kind,
  ) {}

  /** @throws LedgermanProblem not-found with the nearest name there is. */
  async get(target: string, name: string): Promise<Revision<Kind>> {
    const found = await this.find(target, name)
    if (found) return found
    const names = (await this.list(target)).map((each) => each.name)
    throw new LedgermanProblem('not-found', `${target} has no ${this.kind} ${name}. ${suggestName(name, names)}`, {
      [this.kind]: name,
    })
  }

  find(target: string, name: string): Promise<Revision<Kind> | undefined> {
    return this.#latest.get(latestKey(target, name), async () => {
      const [row] = await this.home.query<DefinitionRow>(
        `${SELECT} where target = $1 and kind = $2 and name = $3 order by revision desc limit 1`,
        [target, this.kind, name],
      )
      return row?.content ? toRevision<Kind>(row) : undefined
    })
  }

  /** One revision; those never change, so they are kept. @throws LedgermanProblem not-found */
  async getRevision(target: string, name: string, revision: number): Promise<Revision<Kind>> {
    const key = JSON.stringify([target, name, revision])
    const kept = this.#revisions.get(key)
    if (kept) return kept
    const [row] = await this.home.query<DefinitionRow>(
      `${SELECT} where target = $1 and kind = $2 and name = $3 and revision = $4`,
      [target, this.kind, name, revision],
    )
    if (!row?.content)
      throw new LedgermanProblem('not-found', `${target} has no revision ${revision} of a ${this.kind} ${name}.`, {
        [this.kind]: name,
        revision,
      })
    const found = toRevision<Kind>(row)
    this.#revisions.set(key, found)
    return found
  }

  /** The latest revisions, in order of name. */
  async list(target: string): Promise<Revision<Kind>[]> {
    const rows = await this.home.query<DefinitionRow>(
      `select * from (select distinct on (name) target, kind, name, revision, content::text as content, source, published_at, published_by
       from ledgerman_home.definition where target = $1 and kind = $2 order by name, revision desc) latest where content is not null order by name`,
      [target, this.kind],
    )
    return rows.map((row) => toRevision<Kind>(row))
  }

  /** Has the definition read again when it is next needed. */
  forget(target: string, name: string): void {
    this.#latest.delete(latestKey(target, name))
  }
}

/** How many revisions a target has, withdrawn ones and all: it grows by every one that is published or withdrawn, and never shrinks. */
export async function countRevisions(target: string, query: HomeQuery): Promise<number> {
  const [row] = await query<{ count: string }>('select count(*) from ledgerman_home.definition where target = $1', [
    target,
  ])
  return Number(row?.count)
}

/**
 * Publishes and withdraws definitions, all or none. The same content as the latest revision gives no new one; revisions of what is withdrawn stay.
 *
 * @param seen how many revisions the target had before it was looked whether these fit
 * @returns null where it has others by now, and nothing was published
 * @throws LedgermanProblem record-changed where the latest revision is not the expected one.
 */
export function publishDefinitions(
  home: HomeDatabase,
  target: string,
  definitions: readonly NewDefinition[],
  actor: string,
  seen: number,
): Promise<{ revision: Revision<DefinitionKind>; isNew: boolean }[] | null> {
  return home.transaction(async (query) => {
    // Whoever publishes to the same target at the same time waits.
    await query('select pg_advisory_xact_lock(hashtextextended($1, 0))', [JSON.stringify(['definitions', target])])
    if ((await countRevisions(target, query)) !== seen) return null
    const published: { revision: Revision<DefinitionKind>; isNew: boolean }[] = []
    for (const definition of definitions) {
      const { row, isNew } = await append(query, target, definition, (latest) => nextContent(definition, latest), actor)
      published.push({ revision: toRevision(row), isNew })
    }
    return published
  })
}

/** What the next revision holds; null where there is none to be added. */
function nextContent(next: NewDefinition, latest: DefinitionRow | undefined): Content | null {
  if (next.definition === null) return latest ? { content: null, source: null } : null
  const content = printJson(next.definition)
  return isSameContent(latest?.content, content) ? null : { content, source: next.source }
}

function isSameContent(latest: string | null | undefined, content: string): boolean {
  return typeof latest === 'string' && isDeepStrictEqual(parseJson(latest), parseJson(content))
}

type Content = Pick<DefinitionRow, 'content' | 'source'>

/** Adds a revision; `next` says of what, or null for none. */
async function append(
  query: HomeQuery,
  target: string,
  { kind, name, expected }: Pick<NewDefinition, 'kind' | 'name' | 'expected'>,
  next: (latest: DefinitionRow | undefined) => Content | null,
  actor: string,
): Promise<{ row: DefinitionRow; isNew: boolean }> {
  const [latest] = await query<DefinitionRow>(
    `${SELECT} where target = $1 and kind = $2 and name = $3 order by revision desc limit 1`,
    [target, kind, name],
  )
  const published = latest?.content ? latest : undefined
  const isAsExpected = expected === 'some' ? published !== undefined : expected === (published?.revision ?? 'none')
  if (expected !== undefined && !isAsExpected) throw revisionChanged(kind, name, expected, published?.revision)
  const row = next(published)
  if (row === null && latest) return { row: latest, isNew: false }
  const [added] = await query<DefinitionRow>(
    `insert into ledgerman_home.definition (target, kind, name, revision, content, source, published_by) values ($1, $2, $3, $4, $5, $6, $7)
     returning target, kind, name, revision, content::text as content, source, published_at, published_by`,
    [target, kind, name, (latest?.revision ?? 0) + 1, row?.content ?? null, row?.source ?? null, actor],
  )
  return { row: added as DefinitionRow, isNew: true }
}

/** Names of targets hold no slash. */
function latestKey(target: string, name: string): string {
  return `${target}/${name}`
}

interface DefinitionRow {
  target: string
  kind: DefinitionKind
  name: string
  revision: number
  /** As it was printed, so that no digit of a value in it is lost. */
  content: string | null
  source: string | null
  published_at: Date
  published_by: string
}

const SELECT =
  'select target, kind, name, revision, content::text as content, source, published_at, published_by from ledgerman_home.definition'

function toRevision<Kind extends DefinitionKind>(row: DefinitionRow): Revision<Kind> {
  return {
    target: row.target,
    kind: row.kind as Kind,
    name: row.name,
    revision: row.revision,
    definition: parseJson(row.content ?? 'null') as unknown as DefinitionOf[Kind],
    source: row.source ?? '',
    publishedAt: row.published_at.toISOString(),
    publishedBy: row.published_by,
  }
}

function revisionChanged(
  kind: DefinitionKind,
  name: string,
  expected: ExpectedRevision,
  current: number | undefined,
): LedgermanProblem {
  return new LedgermanProblem(
    'record-changed',
    expected === 'none'
      ? `There is a ${kind} ${name} already, at revision ${current}.`
      : expected === 'some'
        ? `There is no ${kind} ${name}.`
        : `The ${kind} ${name} is at ${current === undefined ? 'no revision' : `revision ${current}`}, not ${expected}: somebody published meanwhile. Look at theirs first.`,
    { [kind]: name, yours: { revision: expected }, current: { revision: current ?? null }, loaded: null },
  )
}
