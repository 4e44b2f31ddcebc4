/** A source of numbers that starts again with each seed (mulberry32). */
export function randomOf(seed: number): () => number {
  let state = seed >>> 0
  return () => {
    state = (state + 0x6d2b79f5) >>> 0
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state)
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296
  }
}

type Schema = Record<string, unknown>

interface Operation {
  method: string
  path: string
  parameters: { name: string; in: string; schema: Schema }[]
  bodies: Record<string, Schema>
}

export interface GeneratedRequest {
  operation: string
  method: string
  path: string
  headers: Record<string, string>
  body: string | undefined
}

/** Texts that mean something here, and texts that mean trouble. */
const TEXTS = [
  ...[
    'programme',
    'observer',
    'block',
    'P-107',
    'code',
    'hoursLeft',
    'hoursLeft > 3',
    'move-hours',
    ':x',
    '1',
    'true',
    'one',
    '2..40',
  ],
  ...[
    '',
    ' ',
    '-',
    '..',
    '%',
    '"',
    "'",
    '\\',
    '$1',
    '$$',
    '\n',
    '\u0000',
    '\u202e',
    '😀',
    '\ud800',
    '{}',
    '[]',
    'null',
    '__proto__',
  ],
  ...[
    'constructor',
    'x'.repeat(300),
    '9'.repeat(40),
    '1e400',
    'NaN',
    'select 1',
    "'; drop table programme; --",
    '2026-02-30',
    '*',
    '/',
  ],
]
const NUMBERS = [
  0, 1, -1, 2, 50, 1_000, 1_001, 2_147_483_647, 2_147_483_648, -2_147_483_649, 9_007_199_254_740_993, 1.5, 1e308,
]
const NAMES: Record<string, string[]> = {
  target: ['observatory', 'observatory', 'observatory', 'nowhere'],
  mapping: ['programme', 'observer', 'block', 'calibration', 'skyFeed', 'telescope', 'programm'],
  transaction: ['move-hours', 'close-semester', 'nothing'],
  key: ['P-107', 'P-112', '7', 'HF1,2026-02-03,flat', '-', '%2D', 'a,b,c,d', '%', '%ff'],
  schema: ['public', 'pg_catalog', 'x'],
  table: ['programme', 'exposure', 'nothing', '"'],
  revision: ['1', '0', '-1', '2147483648', 'x', '1.5'],
}

/** Requests made of what an OpenAPI document says: many as it asks, many not quite, some not at all. */
export class RequestMaker {
  readonly #operations: Operation[]

  constructor(
    readonly document: {
      paths: Record<string, Record<string, Schema>>
      components: { schemas: Record<string, Schema> }
    },
    readonly random: () => number,
    isWanted: (method: string, path: string) => boolean,
  ) {
    this.#operations = Object.entries(document.paths).flatMap(([path, methods]) =>
      Object.entries(methods).flatMap(([method, operation]) => {
        if (!isWanted(method, path)) return []
        const { parameters = [], requestBody } = operation as {
          parameters?: Operation['parameters']
          requestBody?: { content: Record<string, { schema: Schema }> }
        }
        const bodies = Object.entries(requestBody?.content ?? {}).map(([type, { schema }]) => [type, schema] as const)
        return [{ method, path, parameters, bodies: Object.fromEntries(bodies) }]
      }),
    )
  }

  next(): GeneratedRequest {
    const operation = this.#pick(this.#operations)
    const path = operation.path.replace(/\{(\w+)\}/g, (_, name: string) =>
      this.#sometimes(0.85) ? this.#pick(NAMES[name] ?? ['x']) : encode(this.#pick(TEXTS)),
    )
    const query = operation.parameters
      .filter(({ in: place }) => place === 'query')
      .filter(() => this.#sometimes(0.3))
      .map(({ name, schema }) => `${encode(name)}=${encode(this.#queryValue(schema))}`)
    if (this.#sometimes(0.05)) query.push(`${encode(this.#pick(TEXTS))}=${encode(this.#pick(TEXTS))}`)
    const [type, schema] = this.#pick(Object.entries(operation.bodies)) ?? []
    const headers: Record<string, string> = {
      ...(this.#sometimes(0.4) ? { 'if-match': this.#pick(['*', '"v1"', '"v99"', 'v1', 'W/"v1"', '"']) } : {}),
      ...(this.#sometimes(0.1) ? { 'idempotency-key': this.#pick(['a', 'b', 'x'.repeat(300)]) } : {}),
      ...(this.#sometimes(0.1)
        ? { accept: this.#pick(['text/csv', 'application/x-ndjson', 'text/event-stream', 'x/y']) }
        : {}),
      ...(type === undefined ? {} : { 'content-type': this.#sometimes(0.95) ? type : this.#pick(['text/plain', 'x']) }),
    }
    const text = schema === undefined ? undefined : this.#bodyText(schema)
    return {
      operation: `${operation.method.toUpperCase()} ${operation.path}`,
      method: operation.method.toUpperCase(),
      path: path + (query.length > 0 ? `?${query.join('&')}` : ''),
      headers,
      body: text,
    }
  }

  #bodyText(schema: Schema): string {
    const text = JSON.stringify(this.#value(schema, 0)) ?? 'null'
    if (this.#sometimes(0.04)) return text.slice(0, Math.floor(this.random() * text.length))
    return this.#sometimes(0.03) ? this.#pick(TEXTS) : text
  }

  #queryValue(schema: Schema): string {
    const value = this.#value(schema, 0)
    return typeof value === 'string' ? value : JSON.stringify(value)
  }

  #value(schema: Schema, depth: number): unknown {
    if (this.#sometimes(0.08)) return this.#anything(depth)
    const reference = schema['$ref'] as string | undefined
    if (reference !== undefined)
      return this.#value(this.document.components.schemas[reference.split('/').at(-1) ?? ''] ?? {}, depth)
    const choices = (schema['anyOf'] ?? schema['oneOf']) as Schema[] | undefined
    if (choices) return this.#value(this.#pick(choices), depth)
    if (schema['const'] !== undefined) return schema['const']
    if (schema['enum']) return this.#pick(schema['enum'] as unknown[])
    switch (schema['type']) {
      case 'object':
        return this.#object(schema, depth)
      case 'array':
        return depth > 4
          ? []
          : Array.from({ length: this.#sometimes(0.8) ? 1 : 3 }, () =>
              this.#value((schema['items'] as Schema) ?? {}, depth + 1),
            )
      case 'string':
        return this.#pick(TEXTS)
      case 'integer':
      case 'number':
        return this.#pick(NUMBERS)
      case 'boolean':
        return this.#sometimes(0.5)
      default:
        return this.#anything(depth)
    }
  }

  #object({ properties = {}, required = [], additionalProperties }: Schema, depth: number): Schema {
    const known = Object.entries(properties as Record<string, Schema>)
    const wanted = new Set(required as string[])
    const own = known.filter(([name]) =>
      wanted.has(name) ? this.#sometimes(0.97) : depth < 5 && this.#sometimes(0.35),
    )
    const made = Object.fromEntries(own.map(([name, schema]) => [name, this.#value(schema, depth + 1)]))
    if (additionalProperties && depth < 5)
      for (const name of ['hoursLeft', 'x'])
        if (this.#sometimes(0.5))
          made[name] = this.#value(
            typeof additionalProperties === 'object' ? (additionalProperties as Schema) : {},
            depth + 1,
          )
    return made
  }

  #anything(depth: number): unknown {
    const kind = Math.floor(this.random() * (depth > 4 ? 4 : 6))
    if (kind === 0) return null
    if (kind === 1) return this.#sometimes(0.5)
    if (kind === 2) return this.#pick(NUMBERS)
    if (kind === 3) return this.#pick(TEXTS)
    if (kind === 4) return [this.#anything(depth + 1)]
    return { [this.#pick(TEXTS)]: this.#anything(depth + 1) }
  }

  #pick<T>(from: readonly T[]): T {
    return from[Math.floor(this.random() * from.length)] as T
  }

  #sometimes(share: number): boolean {
    return this.random() < share
  }
}

/** Percent-encodes; half a surrogate pair, which no address can carry, is left out. */
function encode(text: string): string {
  return encodeURIComponent(text.replace(/\p{Surrogate}/gu, ''))
}
