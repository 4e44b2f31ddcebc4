import { Validator } from '@seriousme/openapi-schema-validator'
import { stringify } from 'yaml'
import { PROBLEM_CODES } from '@ledgerman/contract'
import { observatoryDefinition, observatorySources } from '../../../../testing/observatory-mappings.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

interface Summary {
  name: string
}

let service: RunningService
const MAPPINGS = '/v1/targets/observatory/mappings'
const YAML = { 'content-type': 'application/yaml' }

beforeAll(async () => {
  service = await startTestService({ isPrepared: false })
})
afterAll(() => service.stop())

const publish = (name: string, body: string, headers: Record<string, string> = {}) =>
  service.request('PUT', `${MAPPINGS}/${name}`, { body, headers: { ...YAML, ...headers } })

describe('mappings', () => {
  it('keep every revision, and give none for the same content', async () => {
    const source = observatorySources.get('programme') ?? ''
    const first = await publish('programme', source)
    expect(first).toMatchObject({ status: 201, body: { revision: 1, source, publishedBy: 'admin', drift: null } })
    expect((await publish('programme', `# the same, with a remark\n${source}`)).body.revision).toBe(1)
    const next = await publish(
      'programme',
      source.replace('guard: { by: version, property: rowVersion }', 'guard: { by: rowStamp }'),
      { 'if-match': '"1"' },
    )
    expect(next).toMatchObject({ status: 200, body: { revision: 2, guard: 'rowStamp' } })
    expect((await publish('programme', source, { 'if-match': '"1"' })).status).toBe(412)
    expect((await publish('programme', source, { 'if-none-match': '*' })).status).toBe(412)
    // What a condition says is held to, or refused: none is dropped.
    expect((await publish('programme', source, { 'if-none-match': '"2"' })).body).toMatchObject({
      where: 'if-none-match',
    })
    expect((await publish('programme', source, { 'if-match': '"1", "2"' })).body).toMatchObject({ where: 'if-match' })
    const both = { 'if-match': '*', 'if-none-match': '*' }
    expect((await publish('programme', source, both)).body).toMatchObject({ where: 'if-none-match' })
    const another = observatorySources.get('telescope') ?? ''
    expect((await publish('telescope', another, { 'if-match': '*' })).status).toBe(412)
    const remove = (headers: Record<string, string>) => service.request('DELETE', `${MAPPINGS}/programme`, { headers })
    expect((await remove({ 'if-none-match': '*' })).status).toBe(412)
    expect((await remove({ 'if-match': '"1"' })).status).toBe(412)
    expect((await service.request('GET', `${MAPPINGS}/programme/revisions/1`)).body.guard).toBe('version')
    expect((await service.request('GET', `${MAPPINGS}/programme`)).headers.get('etag')).toBe('"2"')
    // As YAML it is the text that was published, comments and all, with a tag that publishes it again.
    const asYaml = (path: string) =>
      service.request('GET', `${MAPPINGS}/${path}`, { headers: { accept: YAML['content-type'] } })
    const kept = await asYaml('programme/revisions/1')
    expect([kept.text, kept.headers.get('content-type')]).toEqual([source, 'application/yaml; charset=utf-8'])
    const latest = await asYaml('programme')
    const tag = latest.headers.get('etag') ?? ''
    expect(tag).not.toBe('"2"')
    expect((await publish('programme', latest.text, { 'if-match': tag })).body.revision).toBe(2)
    expect((await publish('programme', latest.text, { 'if-match': tag.replace('2', '1') })).status).toBe(412)
    const names = (await service.request('GET', `${MAPPINGS}/programme`)).body.properties.map(
      (property: { name: string }) => property.name,
    )
    expect(names.slice(0, 3)).toEqual(['id', 'code', 'title'])
  })

  it.each([
    ['a column that is not there', { properties: { code: { column: 'kode' } } }, /no column kode. Did you mean code/],
    [
      'a key that is not unique',
      { key: ['title'], properties: { title: { column: 'title' } } },
      /not unique and not null/,
    ],
    [
      'a version that is no whole number',
      { guard: { by: 'version', property: 'title' }, properties: { title: { column: 'title' } } },
      /a version is a whole number/,
    ],
    [
      'an unknown property in the guard',
      { guard: { by: 'version', property: 'rowVersoin' } },
      /Did you mean rowVersion/,
    ],
    ['an unknown member', { kye: ['code'] }, /unknown member kye/],
    [
      'a rule that is no condition',
      { rules: [{ that: 'title', otherwise: 'x' }] },
      /rules\.1\.that: A condition is type boolean, not type text, at character 1/,
    ],
    [
      'a literal in a rule that is none of its type',
      { rules: [{ that: "title is null or hoursLeft > 'é'", otherwise: 'x' }] },
      /rules\.1\.that: Expected numeric, got 'é', at character 30/,
    ],
    [
      'a find in an order that is not there',
      { finds: { all: { where: "code <> 'é'", order: 'titel' } } },
      /finds\.all\.order: titel is not a property of programme\. Did you mean title\?/,
    ],
    ['a name that does not fit its address', { mapping: 'other' }, /the body the mapping other/],
    [
      'a table that is not there',
      { table: 'public.programmes' },
      /no table public.programmes.* mean public.programme\?/,
    ],
    [
      'a table of another schema',
      { table: 'archive.programme' },
      /no table archive.programme.* mean public.programme\?/,
    ],
    [
      'a key that is mistyped as its column is',
      { key: ['kode'], properties: { kode: { column: 'kode' } } },
      /mean code/,
    ],
  ])('are refused with %s', async (_what, difference, words) => {
    const base = observatoryDefinition('programme')
    const definition = {
      ...base,
      ...difference,
      properties: { ...base.properties, ...(difference as typeof base).properties },
    }
    const refused = await publish('programme', stringify(definition))
    expect([400, 404]).toContain(refused.status)
    expect(refused.body.detail).toMatch(words)
  })

  it('of a transaction are refused for a literal that is none of its type, before anybody runs it', async () => {
    const refused = await service.request('PUT', '/v1/targets/observatory/transactions/t', {
      body: stringify({
        transaction: 't',
        steps: [{ load: 'programme', where: "priority = 'high'", expect: 'any' }],
      }),
      headers: { 'content-type': 'application/yaml' },
    })
    expect([refused.status, refused.body.detail]).toEqual([
      400,
      expect.stringMatching(/steps\.1\.where: Expected smallint, got 'high', at character 12/),
    ])
  })

  it('tell of a transaction what is wrong with each step, and not what follows from it', async () => {
    const steps = [
      { load: 'programe', key: { code: "'P-107'" }, as: 'gone' },
      { load: 'programme', key: { code: ':kode' }, as: 'known' },
      { require: 'gone.hoursLeft > 1', otherwise: '{gone.hoursLeft}' },
      { require: 'known.hoursLft > 1' },
      { change: 'gone', values: { title: 'x' } },
    ]
    const refused = await service.request('PUT', '/v1/targets/observatory/transactions/t', {
      body: stringify({ transaction: 't', steps }),
      headers: { 'content-type': 'application/yaml' },
    })
    const findings = refused.body.findings as { where: string; message: string }[]
    expect(findings.map(({ where }) => where)).toEqual(['steps.1.load', 'steps.2.key.code', 'steps.4.require'])
    expect(findings[2]?.message).toMatch(/hoursLft is not a property of programme .*Did you mean hoursLeft\?/)
  })

  it('tell a key that does not compare with its column where the key stands', async () => {
    const params = { id: { type: 'text' } }
    const steps = [
      { change: 'programme', key: { id: ':id' }, compute: { hoursLeft: 'hoursLeft + 1' } },
      { load: 'programme', as: 'found', key: { code: "'P-107'" } },
      { remove: 'programme', key: { code: 'found.id' } },
    ]
    const refused = await service.request('PUT', '/v1/targets/observatory/transactions/t', {
      body: stringify({ transaction: 't', params, steps }),
      headers: { 'content-type': 'application/yaml' },
    })
    expect(refused.body.findings).toMatchObject([
      {
        where: 'steps.1.key.id',
        message: expect.stringContaining('integer = text, at character 1:\n:id\n^') as string,
      },
      { where: 'steps.3.key.code', message: expect.stringContaining('text = integer') as string },
    ])
  })

  it('say at which line a file cannot be read', async () => {
    expect((await publish('programme', 'mapping: programme\ntable: [')).body).toMatchObject({
      code: 'definition-invalid',
      where: expect.stringMatching(/^line \d/) as string,
    })
  })

  it('are derived from a table, ready to be published', async () => {
    const derived = await service.request('GET', '/v1/targets/observatory/tables/public/calibration/mapping')
    expect(derived.body.definition).toMatchObject({
      mapping: 'calibration',
      key: ['telescope', 'night', 'kind'],
      guard: { by: 'rowStamp' },
      properties: { offsetArcsec: { column: 'offset_arcsec' } },
    })
    expect((await publish('calibration', derived.body.source)).status).toBe(201)
    const programme = await service.request('GET', '/v1/targets/observatory/tables/public/programme/mapping')
    expect(programme.body.notes.join()).toMatch(/row_version looks like a version/)
    expect(programme.body.definition.links.lead).toEqual({ mapping: 'observer', on: { leadId: 'id' } })
  })

  it('derives a mapping from a table as it is now, though it was read a moment ago', async () => {
    const path = '/v1/targets/observatory/tables/public/just_altered/mapping'
    await service.observatory.sql('create table just_altered (id integer primary key)')
    const columns = async () => Object.keys((await service.request('GET', path)).body.definition.properties)
    expect(await columns()).toEqual(['id'])
    await service.observatory.sql('alter table just_altered add column mark text')
    expect(await columns()).toEqual(['id', 'mark'])
    await service.observatory.sql('drop table just_altered')
  })

  it('say where a link leads elsewhere than the foreign key of its columns', async () => {
    await service.observatory.sql(
      'create schema archive; create table archive.observer (id integer primary key, name text); grant usage on schema archive to public; grant select on archive.observer to public',
    )
    const { body } = await service.request('GET', '/v1/targets/observatory/tables/archive/observer/mapping')
    const archived = { ...body.definition, mapping: 'archived' }
    expect((await publish('archived', stringify(archived))).status).toBe(201)
    const base = observatoryDefinition('programme')
    const links = { ...base.links, lead: { mapping: 'archived', on: { leadId: 'id' } } }
    const refused = await publish('programme', stringify({ ...base, links }))
    expect(refused.body).toMatchObject({ code: 'definition-invalid' })
    expect(refused.body.detail).toContain(
      'lead_id of public.programme refers to public.observer (programme_lead_id_fkey), and archived is a mapping of archive.observer',
    )
    // Another table whose own key leads to the same place is as good.
    await service.observatory.sql('alter table archive.observer add foreign key (id) references public.observer')
    expect((await publish('programme', stringify({ ...base, links }))).status).toBeLessThan(300)
    expect((await publish('programme', observatorySources.get('programme') ?? '')).status).toBeLessThan(300)
  })

  it('tell when the table was altered under them', async () => {
    await publish('telescope', observatorySources.get('telescope') ?? '')
    await service.observatory.sql('alter table telescope rename column aperture_m to aperture')
    const answers = await Promise.all([
      service.request('GET', `${MAPPINGS}/telescope`),
      service.request('GET', `${MAPPINGS}/telescope/records`),
    ])
    expect(answers[1]).toMatchObject({ status: 400, body: { code: 'definition-invalid' } })
    expect((await service.request('GET', `${MAPPINGS}/telescope`)).body).toMatchObject({
      properties: null,
      drift: expect.stringMatching(/aperture_m/) as string,
    })
  })

  it('go, and their revisions stay', async () => {
    expect((await service.request('DELETE', `${MAPPINGS}/programme`)).status).toBe(204)
    expect((await service.request('GET', `${MAPPINGS}/programme`)).status).toBe(404)
    expect((await service.request('GET', `${MAPPINGS}/programme/revisions/1`)).status).toBe(200)
    expect((await service.request('DELETE', `${MAPPINGS}/programme`)).status).toBe(404)
  })

  it('are not withdrawn from others that use them, but together with them', async () => {
    await service.observatory.sql(
      'create table lens (id int primary key, glass text); create table mount (id int primary key, lens_id int references lens)',
    )
    const common = { key: ['id'], guard: { by: 'rowStamp' } }
    const [id, glass] = [{ column: 'id' }, { column: 'glass' }]
    const lens = { mapping: 'lens', table: 'public.lens', ...common, properties: { id, glass } }
    const mount = {
      mapping: 'mount',
      table: 'public.mount',
      ...common,
      properties: { id, lensId: { column: 'lens_id' } },
      links: { lens: { mapping: 'lens', on: { lensId: 'id' } }, twin: { mapping: 'mount', on: { id: 'id' } } },
    }
    const polish = { transaction: 'polish', steps: [{ remove: 'lens', where: "glass = 'dull'", expect: 'any' }] }
    const all = (body: object, check = false) =>
      service.request('POST', `/v1/targets/observatory/definitions?check=${check}`, {
        body,
        headers: { 'content-type': 'application/json' },
      })
    const source = (definition: object) => ({ source: stringify(definition) })
    const drop = (kind: string, name: string, revision?: number) => ({ kind, name, ...(revision ? { revision } : {}) })
    const names = async () => (await service.request('GET', MAPPINGS)).body.mappings.map(({ name }: Summary) => name)
    expect((await all({ definitions: [lens, mount, polish].map(source) })).body).toMatchObject({ findings: [] })
    const uses = [
      { mapping: 'lens', definition: 'mapping mount' },
      { mapping: 'lens', definition: 'transaction polish' },
    ]
    for (const refused of [
      await service.request('DELETE', `${MAPPINGS}/lens`),
      await all({ definitions: [], withdraw: [drop('mapping', 'lens')] }),
      await all({ definitions: [], withdraw: [drop('mapping', 'lens')] }, true),
    ])
      expect(refused).toMatchObject({
        status: 409,
        body: {
          code: 'definition-in-use',
          detail: expect.stringContaining(
            'lens is linked to by the mapping mount, and used by the transaction polish.',
          ) as string,
          uses,
        },
      })
    // What is published with it counts as it will be, what is withdrawn with it not at all; one that is not there, or was published anew, stops all.
    const unlinked = source({ ...mount, links: {} })
    const both = [drop('mapping', 'lens', 1), drop('transaction', 'polish')]
    for (const [withdraw, status] of [
      [[...both, drop('mapping', 'lense')], 404],
      [[drop('mapping', 'lens', 7), drop('transaction', 'polish')], 412],
      [[...both, drop('mapping', 'lens')], 400],
      [[...both, drop('mapping', 'mount')], 400],
      [[drop('mapping', 'lens')], 409],
    ] as const)
      expect((await all({ definitions: [unlinked], withdraw })).status).toBe(status)
    expect(await names()).toEqual(expect.arrayContaining(['lens', 'mount']))
    expect((await all({ definitions: [unlinked], withdraw: both }, true)).status).toBe(200)
    expect(await names()).toContain('lens')
    // A table, or a whole database, that is gone stops nobody.
    await service.observatory.sql('drop table lens cascade')
    expect((await all({ definitions: [unlinked], withdraw: both })).body).toEqual({
      definitions: [
        { kind: 'mapping', name: 'mount', revision: 2, state: 'changed', file: null },
        { kind: 'mapping', name: 'lens', revision: 1, state: 'withdrawn', file: null },
        { kind: 'transaction', name: 'polish', revision: 1, state: 'withdrawn', file: null },
      ],
      findings: [],
    })
    expect(await names()).not.toContain('lens')
    // What links to nothing but itself goes.
    expect((await service.request('DELETE', `${MAPPINGS}/mount`)).status).toBe(204)
  })

  it('are looked at again where others were published or withdrawn meanwhile', async () => {
    await service.observatory.sql('create table shutter (id int primary key, state text)')
    const properties = { id: { column: 'id' }, state: { column: 'state' } }
    const shutter = { mapping: 'shutter', table: 'public.shutter', key: ['id'], guard: { by: 'none' }, properties }
    const [mapping, transaction] = [`${MAPPINGS}/shutter`, '/v1/targets/observatory/transactions/close']
    const close = { transaction: 'close', steps: [{ remove: 'shutter', where: "state = 'stuck'", expect: 'any' }] }
    const put = (path: string, definition: object) =>
      service.request('PUT', path, { body: stringify(definition), headers: YAML })
    for (let round = 0; round < 8; round++) {
      await put(mapping, shutter)
      const [published, withdrawn] = await Promise.all([put(transaction, close), service.request('DELETE', mapping)])
      expect([published.status < 300, withdrawn.status < 300].filter((isDone) => isDone)).toHaveLength(1)
      expect([published.body?.code, withdrawn.body?.code]).toContain(
        published.status < 300 ? 'definition-in-use' : 'definition-invalid',
      )
      await service.request('DELETE', transaction)
    }
  })
})

describe('raw statements', () => {
  it.each([
    [
      "update programme set title = :a where cod = 'é'",
      'cod',
      /column "cod" does not exist.*Did you mean "programme.code"/i,
    ],
    ['select :a from nosuch', 'nosuch', /relation "nosuch" does not exist/i],
    ["select 'é', :a from programme wher x = 1", 'x', /syntax error at or near "x"/],
    ["select :a, 'é'::int", "'é'", /invalid input syntax for type integer/i],
    ['select id, :a from programme, observer', 'id', /ambiguous/],
    ["select :a, 'open", "'open", /unterminated quoted string/],
    ['select :b, :a', ':b', /:b is not a parameter.*Did you mean a/],
  ])('%s: says what is wrong, and where', async (sql, word, words) => {
    const { status, body } = await service.request('POST', '/v1/targets/observatory/runs', {
      body: {
        mode: 'rehearse',
        types: { a: 'text' },
        params: { a: 'x' },
        steps: [{ sql, changes: true, expect: 'any' }],
      },
      headers: { 'content-type': 'application/json' },
    })
    expect([status, body.detail]).toEqual([400, expect.stringMatching(words)])
    const [line, caret = ''] = String(body.detail).split('\n').slice(-2)
    expect(line?.slice(caret.indexOf('^'))).toMatch(new RegExp(`^${word}`))
  })
})

describe('the interface', () => {
  it('describes itself, every answer with a schema that is there', async () => {
    const { body } = await service.request('GET', '/openapi.json', { token: '' })
    expect(body.openapi).toBe('3.1.0')
    expect(await new Validator().validate(body)).toMatchObject({ valid: true })
    const patch = body.paths['/v1/targets/{target}/mappings/{mapping}/records/{key}'].patch
    expect(Object.keys(patch.requestBody.content)).toContain('application/merge-patch+json')
    expect(patch.parameters.map((parameter: { name: string }) => parameter.name)).toEqual(
      expect.arrayContaining(['key', 'mode', 'If-Match']),
    )
    const known = new Set(Object.keys(body.components.schemas).map((name) => `#/components/schemas/${name}`))
    const used = [...JSON.stringify(body).matchAll(/"\$ref":"([^"]+)"/g)].map(([, reference]) => reference)
    expect(used.filter((reference) => !known.has(reference ?? ''))).toEqual([])
  })

  it('has a page for every problem, and a problem for every other address', async () => {
    for (const code of PROBLEM_CODES) expect((await service.request('GET', `/problems/${code}`)).body.code).toBe(code)
    expect(await service.request('GET', '/v1/nowhere')).toMatchObject({ status: 404, body: { code: 'not-found' } })
  })
})
