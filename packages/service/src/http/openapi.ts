import { z } from 'zod'
import { PLACEHOLDER_STYLES, problemCatalogue, problemDocument, type ProblemCode } from '@ledgerman/contract'
import { SESSION_COOKIE } from './authenticate.js'
import { longestOf } from './call-limit.js'
import { isOptional, takesBody } from './read-body.js'
import type { Route } from './route.js'

type Json = Record<string, unknown>

/** Problems that any call with a token can meet. */
const COMMON: ProblemCode[] = ['request-invalid', 'unauthenticated', 'forbidden', 'target-unavailable', 'internal']
/** Everything that asks a target may wait for a lock there, such as one that somebody took on the whole table. */
const OF_TARGET: ProblemCode[] = ['target-denied', 'not-found', 'lock-timeout', 'time-limit', 'refused-by-database']
const OF_BODY: ProblemCode[] = ['media-type', 'too-large']

/** Describes the interface as OpenAPI 3.1, whose schemas are JSON Schema of the same draft that Zod prints. */
export function toOpenApi(routes: readonly Route[]): Json {
  const components: Json = {}
  // Many calls answer with the same, above all with problems: each is printed once, as that takes milliseconds.
  const printed = { input: new Map<z.ZodType, Json>(), output: new Map<z.ZodType, Json>() }
  const toSchema: ToSchema = (schema, io) => {
    const known = printed[io].get(schema) ?? collect(schema, io, components)
    printed[io].set(schema, known)
    return known
  }
  const paths: Record<string, Json> = {}
  for (const route of routes) (paths[route.path] ??= {})[route.method] = toOperation(route, toSchema)
  return {
    openapi: '3.1.0',
    info: {
      title: 'Ledgerman',
      version: '1',
      description:
        'Changes existing PostgreSQL records and proves what it changed. Numbers in bodies may have more digits than a double holds: read and write them exactly.',
    },
    servers: [{ url: '/', description: 'The service that answers with this document.' }],
    security: [{ bearer: [] }, { session: [] }],
    paths,
    components: {
      schemas: components,
      securitySchemes: {
        bearer: { type: 'http', scheme: 'bearer' },
        session: { type: 'apiKey', in: 'cookie', name: SESSION_COOKIE },
      },
    },
  }
}

/** What a call that is followed is answered with. */
const EVENTS: Json = {
  type: 'string',
  description:
    'Server-sent events: `waiting` with `{ holders }` while a lock is waited for, `progress` with `{ done, total, what }`, and at the end `answer` with `{ status, body }` as the plain call has them.',
}

type ToSchema = (schema: z.ZodType, io: 'input' | 'output') => Json

function toOperation(route: Route, toSchema: ToSchema): Json {
  const codes = [
    ...new Set([
      ...(route.role === null ? [] : COMMON),
      ...(route.path.includes('{target}') ? OF_TARGET : []),
      ...(route.body ? OF_BODY : []),
      ...(route.problems ?? []),
    ]),
  ]
  const longestMs = longestOf(route)
  return {
    operationId: operationId(route),
    summary: route.summary,
    tags: [route.path.split('/')[4] ?? route.path.split('/')[2] ?? 'service'].map((tag) => tag.replace(/[{}]/g, '')),
    ...(route.role === null ? { security: [] } : { 'x-role': route.role }),
    ...(longestMs === null ? { 'x-goes-on': true } : { 'x-longest-ms': longestMs }),
    parameters: [...pathParameters(route), ...queryParameters(route, toSchema), ...headerParameters(route)],
    ...(takesBody(route)
      ? {
          requestBody: {
            required: !isOptional(route),
            content: Object.fromEntries(
              Object.entries(route.body).map(([type, { schema, shape }]) => [
                type,
                { schema: toSchema(shape ?? schema, 'input') },
              ]),
            ),
          },
        }
      : {}),
    responses: { ...successes(route, toSchema), ...problems(codes, toSchema) },
  }
}

function operationId({ method, path }: Route): string {
  // A parameter is told from a word of the same name: tables/{table} from tables/table.
  const parts = path.split('/').slice(path.startsWith('/v1/') ? 2 : 1)
  return [method, ...parts].map((part) => part.replace(/^\{(.*)\}$/, 'by-$1')).join('-')
}

function pathParameters({ path }: Route): Json[] {
  return [...path.matchAll(/\{(\w+)\}/g)].map(([, name]) => ({
    name,
    in: 'path',
    required: true,
    schema: { type: 'string' },
    ...(name === 'key'
      ? {
          description:
            'The key values in key order, each percent-encoded, joined by commas; or "-" with ?key.NAME=VALUE for each.',
        }
      : {}),
  }))
}

function queryParameters({ query, queryFamilies = {}, showsStatements }: Route, toSchema: ToSchema): Json[] {
  const style = showsStatements ? [STYLE_PARAMETER] : []
  if (!query) return style
  const { properties = {}, required = [] } = toSchema(query, 'input') as {
    properties?: Record<string, Json>
    required?: string[]
  }
  const named = Object.entries(properties).map(([name, schema]) => ({
    name,
    in: 'query',
    required: required.includes(name),
    schema,
  }))
  const families = Object.entries(queryFamilies).map(([name, description]) => familyParameter(name, description))
  return [...named, ...families, ...style]
}

const STYLE_PARAMETER = {
  name: 'style',
  in: 'query',
  required: false,
  description: 'How the placeholders of statements are written; `dollar` where nothing is said.',
  schema: { type: 'string', enum: [...PLACEHOLDER_STYLES] },
}

/** Parameters whose names go on with a name of the caller's own: `bind.NAME`. */
function familyParameter(prefix: string, description: string): Json {
  return {
    name: `${prefix}NAME`,
    in: 'query',
    required: false,
    description: `${description} NAME stands for the name itself.`,
    schema: { type: 'string' },
  }
}

function headerParameters({ headers = {} }: Route): Json[] {
  return Object.entries(headers).map(([name, description]) => ({
    name,
    in: 'header',
    required: false,
    description,
    schema: { type: 'string' },
  }))
}

function successes({ replies, canFollow = false }: Route, toSchema: ToSchema): Json {
  return Object.fromEntries(
    Object.entries(replies).map(([status, { description, schema, headers, alsoAs = [] }]) => [
      status,
      {
        description,
        ...(headers
          ? {
              headers: Object.fromEntries(
                Object.entries(headers).map(([name, text]) => [
                  name,
                  { description: text, schema: { type: 'string' } },
                ]),
              ),
            }
          : {}),
        ...(schema
          ? {
              content: {
                'application/json': { schema: toSchema(schema, 'output') },
                ...Object.fromEntries(alsoAs.map((type) => [type, { schema: { type: 'string' } }])),
                ...(canFollow ? { 'text/event-stream': { schema: EVENTS } } : {}),
              },
            }
          : {}),
      },
    ]),
  )
}

function problems(codes: ProblemCode[], toSchema: ToSchema): Json {
  const byStatus = new Map<number, ProblemCode[]>()
  for (const code of codes) {
    const { status } = problemCatalogue[code]
    byStatus.set(status, [...(byStatus.get(status) ?? []), code])
  }
  return Object.fromEntries(
    [...byStatus].map(([status, list]) => [
      status,
      {
        description: list.join(', '),
        content: { 'application/problem+json': { schema: toSchema(problemDocument, 'output') } },
      },
    ]),
  )
}

/** Prints a schema; those with an id go to the components, and are referred to there. */
function collect(schema: z.ZodType, io: 'input' | 'output', components: Json): Json {
  const printed = z.toJSONSchema(schema, { io, unrepresentable: 'any' }) as Json
  const {
    $schema: _draft,
    $defs = {},
    id,
    ...rest
  } = printed as { $schema?: string; $defs?: Record<string, Json>; id?: string }
  for (const [name, definition] of Object.entries($defs)) components[name] ??= withoutIds(pointToComponents(definition))
  const own = withoutIds(pointToComponents(rest))
  if (id === undefined) return own
  components[id] ??= own
  return { $ref: `#/components/schemas/${id}` }
}

function pointToComponents(value: Json): Json {
  return JSON.parse(JSON.stringify(value).replaceAll('"#/$defs/', '"#/components/schemas/')) as Json
}

function withoutIds({ id: _id, ...rest }: Json): Json {
  return rest
}
