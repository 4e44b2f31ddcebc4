import { execFile } from 'node:child_process'
import {
  chmodSync,
  closeSync,
  existsSync,
  fstatSync,
  mkdirSync,
  openSync,
  readdirSync,
  readFileSync,
  renameSync,
  statSync,
  symlinkSync,
  writeFileSync,
} from 'node:fs'
import { connect, type AddressInfo } from 'node:net'
import { join } from 'node:path'
import { createServer } from 'node:tls'
import { promisify } from 'node:util'
import { makeCertificate } from '../../../../testing/certificate.js'
import type { RunningService } from '../../../../testing/running-service.js'
import { openCommandLine, PROGRAM, type CommandLine } from '../cli-process.js'

let line: CommandLine
let service: RunningService
let folder: string
let run: CommandLine['run']

beforeAll(async () => {
  line = await openCommandLine()
  ;({ service, folder, run } = line)
})
afterAll(() => line.close())

describe('the command line', () => {
  it('signs in, and keeps the token where only its owner reads it', async () => {
    const tokenFile = join(folder, 'token')
    writeFileSync(tokenFile, service.token)
    expect((await run(['targets'], {})).exit).toBe(8)
    const login = await run(['login', service.url, '--token-file', tokenFile], {})
    expect(login).toMatchObject({ exit: 0 })
    expect(login.out).toMatch(/as admin/)
    // A second one is put in its place whole: a command that reads it meanwhile has one or the other.
    const kept = join(folder, 'ledgerman/login.json')
    const before = openSync(kept, 'r')
    chmodSync(kept, 0o644)
    expect((await run(['login', service.url, '--token-file', tokenFile], {})).exit).toBe(0)
    expect([statSync(kept).mode & 0o777, statSync(kept).ino === fstatSync(before).ino]).toEqual([0o600, false])
    closeSync(before)
    expect((await run(['targets'], {})).out).toMatch(/observatory\s+reachable\s+prepared/)
    expect((await run(['targets'], { LEDGERMAN_URL: 'http://127.0.0.1:1' })).exit).toBe(8)
    expect((await run(['targets'], { LEDGERMAN_URL: 'http://127.0.0.1:1', LEDGERMAN_TOKEN: 'x' })).exit).toBe(9)
    expect((await run(['targets'], { LEDGERMAN_URL: '127.0.0.1:1', LEDGERMAN_TOKEN: 'x' })).exit).toBe(2)
  })

  it('calls a service behind TLS, where Node trusts it', async () => {
    const { key, certificate } = makeCertificate(folder)
    const behind = createServer({ key: readFileSync(key), cert: readFileSync(certificate) }, (socket) => {
      const inner = connect(Number(new URL(service.url).port), '127.0.0.1')
      socket.on('error', () => inner.destroy()).pipe(inner)
      inner.on('error', () => socket.destroy()).pipe(socket)
    })
    await new Promise<void>((resolve) => behind.listen(0, '127.0.0.1', resolve))
    const { port } = behind.address() as AddressInfo
    const targets = (host: string, more = {}) =>
      run(['targets'], { LEDGERMAN_URL: `https://${host}:${port}`, LEDGERMAN_TOKEN: service.token, ...more })
    try {
      const trusting = { NODE_EXTRA_CA_CERTS: certificate }
      expect((await targets('localhost', trusting)).out).toMatch(/observatory\s+reachable\s+prepared/)
      expect((await targets('localhost')).err).toMatch(/cannot be reached: self-signed certificate\. Have Node trust/)
      expect((await targets('127.0.0.1', trusting)).err).toMatch(/Use a name that its certificate is for\./)
      const plain = await run(['targets'], {
        LEDGERMAN_URL: service.url.replace('http:', 'https:'),
        LEDGERMAN_TOKEN: service.token,
      })
      expect(plain).toMatchObject({ exit: 9, err: expect.stringContaining('it does not speak TLS there') as string })
    } finally {
      behind.close()
    }
  })

  it('fails where its output, or a file, is not taken, and leaves files that were there', async () => {
    const command = `exec "${process.execPath}" "${PROGRAM}" find programme --limit 3 >/dev/full`
    const env = { LEDGERMAN_URL: service.url, LEDGERMAN_TOKEN: service.token }
    const full = promisify(execFile)('sh', ['-c', command], { env })
    await expect(full).rejects.toMatchObject({
      code: 1,
      stderr: expect.stringMatching(/could not be written: ENOSPC/) as string,
    })
    const file = join(folder, 'not-a-folder')
    writeFileSync(file, 'kept')
    for (const words of [
      ['emit', file, '--mapping', 'programme'],
      ['fetch', file],
    ])
      expect(await run(words)).toMatchObject({
        exit: 2,
        err: expect.stringMatching(/^request-invalid: .*not-a-folder/),
      })
    expect(readFileSync(file, 'utf8')).toBe('kept')

    const utf16 = join(folder, 'utf16.yaml')
    writeFileSync(utf16, Buffer.from('\ufeffmapping: plate', 'utf16le'))
    for (const words of [
      ['publish', utf16],
      ['run', '--steps', utf16],
    ])
      expect(await run(words)).toMatchObject({ exit: 2, err: `request-invalid: ${utf16}: it is no text in UTF-8.\n` })

    const [elsewhere, link] = [join(folder, 'elsewhere.json'), join(folder, 'catalogue.json')]
    writeFileSync(elsewhere, 'before', { mode: 0o640 })
    symlinkSync(elsewhere, link)
    expect((await run(['tables', '--save', link])).exit).toBe(0)
    expect(readFileSync(elsewhere, 'utf8')).toMatch(/^\{/)
    expect(statSync(elsewhere).mode & 0o777).toBe(0o640)
    expect((await run(['tables', '--save', folder])).exit).toBe(2)
    expect(readdirSync(folder).filter((name) => name.endsWith('.new'))).toEqual([])
  })

  it('loads, rehearses, commits and shows the entry', async () => {
    expect((await run(['load', 'programme', 'P-107'])).out).toMatch(/hoursLeft\s+18\.50/)
    const rehearsed = await run(['change', 'programme', 'P-107', 'hoursLeft=14.50', '--statement'])
    expect(rehearsed.out).toMatch(/rehearsed, rolled back: expected one, matched 1, changed 1/)
    expect(rehearsed.out).toMatch(/hoursLeft\s+18\.50\s+→\s+14\.50/)
    expect(rehearsed.out).toMatch(/\$1\s+hoursLeft\s+14\.50\s+numeric\(6,2\)/)
    expect((await run(['load', 'programme', 'P-107', '--json'])).out).toContain('"hoursLeft": "18.50"')
    const committed = await run(['change', 'programme', 'P-107', 'hoursLeft=14.50', '--if', 'v1', '--commit'])
    const entry = /Entry (\S+), guard now v2/.exec(committed.out)?.[1] ?? ''
    expect(entry).not.toBe('')
    expect((await run(['book', 'show', entry])).out).toMatch(/hoursLeft\s+18\.50\s+→\s+14\.50/)
    const list = JSON.parse(
      (await run(['book', 'list', '--mapping', 'programme', '--key', 'P-107', '--json'])).out,
    ) as { entries: unknown[] }
    expect(list.entries).toMatchObject([{ id: entry, outcome: 'committed', matched: 1, changed: 1 }])
  })

  it('lists tables, mappings and records', async () => {
    expect((await run(['tables'])).out).toMatch(/public\.sky_feed\s+table\s+4\s+no key/)
    expect((await run(['tables', 'programme'])).out).toMatch(/programme_hours_left_check: CHECK \(hours_left >= 0/)
    expect((await run(['map', 'programme'])).out).toMatch(/hoursLeft: \{ column: hours_left \}/)
    expect((await run(['map', 'exposure', '--publish'])).out).toMatch(/published: exposure, revision 2/)
    expect((await run(['mappings'])).out).toMatch(/programme\s+public\.programme\s+code\s+version/)
    const page = await run(['find', 'programme', '--limit', '2'])
    expect(page.out.trim().split('\n')).toHaveLength(4)
    const after = /--after (\S+)/.exec(page.out)?.[1] ?? ''
    expect((await run(['find', 'programme', '--limit', '1', '--after', after])).out).toMatch(/P-103/)
  })

  it.each([
    [['load', 'programme', 'P-999'], 3, /no-such-record/],
    [['load', 'programm', 'P-107'], 3, /Did you mean programme/],
    [['change', 'programme', 'P-108', 'title=x', '--if', 'v9', '--commit'], 5, /yours\s+current/],
    [['change', 'programme', 'P-108', 'hoursLeft=399', '--commit'], 6, /hoursLeft <= hoursGranted/],
    [['change', 'programme', 'P-108', 'hourLeft=3'], 2, /Did you mean hoursLeft/],
    [['change', 'programme', 'P-108', 'priority=high'], 2, /priority: expected a number/],
    [['change', 'programme', 'P-108', 'title'], 2, /expected property=value/],
    [['change', 'programme', 'P-108'], 2, /names no property/],
    [['change', 'skyFeed', 'x', 'cloud=thin'], 1, /no unique key/],
    [['load', 'calibration', 'HF1'], 2, /expected 3 values, got 1/],
    [['load'], 2, /missing required argument/],
    [['lode'], 2, /unknown command/],
  ])('answers %j with exit code %i', async (words, exit, message) => {
    const { exit: got, err } = await run(words)
    expect(err).toMatch(message)
    expect(got).toBe(exit)
  })

  it('prints problems as documents for programs, and help with examples for people', async () => {
    expect(JSON.parse((await run(['load', 'programme', 'P-999', '--json'])).err)).toMatchObject({
      code: 'no-such-record',
      status: 404,
    })
    const help = await run(['change', '--help'])
    expect(help).toMatchObject({ exit: 0 })
    expect(help.out).toMatch(/ledgerman change programme P-107 hoursLeft=14\.50/)
  })
})

describe('changes by condition', () => {
  it('are rehearsed, counted, and committed exactly as they were rehearsed', async () => {
    const words = [
      'change',
      'programme',
      '--where',
      'semester = :s and hoursLeft > :h',
      '--bind',
      's=2026A',
      '--bind',
      'h=100',
      '--compute',
      'priority=least(priority + 1, 5)',
    ]
    const rehearsed = await run([...words, '--json'])
    const receipt = JSON.parse(rehearsed.out) as { rehearsal: string; steps: { matched: number }[] }
    expect(receipt.steps[0]?.matched).toBeGreaterThan(1)
    expect((await run([...words, '--commit'])).err).toMatch(
      /^count-required: Say how many rows it has to match, with --expect\./,
    )
    expect((await run([...words, '--rehearsal', receipt.rehearsal])).out).toMatch(
      /^committed: expected 6|^committed: expected \d+/,
    )
    const keyed = await run([
      'change',
      'programme',
      'P-107',
      '--compute',
      'hoursLeft=hoursLeft - :n',
      '--bind',
      'n=0.5',
      '--commit',
    ])
    expect(keyed.out).toMatch(/hoursLeft +\S+ +→/)
    expect(
      (await run(['change', 'programme', '--where', 'true', 'priority=3', '--expect', 'any', '--commit'])).err,
    ).toMatch(/add --every-row/)
  })

  it('and runs, waits and definitions read well in a terminal', async () => {
    expect((await run(['transactions'])).out).toMatch(/move-hours +from, to, hours/)
    const refused = await run(['run', 'move-hours', 'from=P-112', 'to=P-107', 'hours=9999', '--commit'])
    expect([refused.exit, refused.err]).toEqual([
      6,
      expect.stringMatching(/has \S+ hours left[\s\S]*3 +require +not true/),
    ])
    expect((await run(['run', 'move-hours', '--example', '7'])).exit).toBe(2)
    // Rows of several mappings say whose they are; a key alone would not tell.
    const several = await run(['run', 'move-hours', 'from=P-112', 'to=P-107', 'hours=10'])
    expect(several.out).toMatch(/^programme P-112$[\s\S]*^programme P-107$[\s\S]*^hoursTransfer \d+$/m)
    expect((await run(['waits'])).out).toMatch(/Nobody waits/)
    expect((await run(['fetch', join(folder, 'defs')])).out).toMatch(/move-hours\.yaml +new/)
    expect((await run(['check', join(folder, 'defs')])).out).toMatch(/All fit observatory/)
    // What was edited here and never published is not lost; a definition is fetched into the file where it stands.
    const [own, moved] = [join(folder, 'defs/mappings/observer.yaml'), join(folder, 'defs/people.yaml')]
    const published = readFileSync(own, 'utf8')
    writeFileSync(own, `# ours\n${published}`)
    const kept = await run(['fetch', join(folder, 'defs')])
    expect([kept.exit, kept.err]).toEqual([2, expect.stringMatching(/observer\.yaml: it has changes that were never/)])
    expect(readFileSync(own, 'utf8')).toMatch(/^# ours/)
    renameSync(own, moved)
    expect((await run(['fetch', join(folder, 'defs'), '--overwrite'])).out).toMatch(/people\.yaml +changed/)
    expect([readFileSync(moved, 'utf8'), existsSync(own)]).toEqual([published, false])
    writeFileSync(
      join(folder, 'defs/mappings/wrong.yaml'),
      'mapping: wrong\ntable: public.nowhere\nkey: []\nguard: { by: none }\nproperties: {}\n',
    )
    // One file goes alone, whatever stands beside it; what can hold no definition is told as that.
    expect((await run(['publish', moved])).out).toMatch(/^\s+name +revision\s+mapping +observer +\d+ +same\s*$/)
    for (const [path, says] of [
      [join(folder, 'defs/one.drill.yaml'), /no file or folder/],
      ['demo/observatory/drills/save-without-guard.drill.yaml', /Run it: ledgerman drill/],
      ['README.md', /no definition file/],
    ] as const)
      expect(await run(['check', path])).toMatchObject({ exit: 2, err: expect.stringMatching(says) as string })
    const wrong = await run(['publish', join(folder, 'defs')])
    expect([wrong.exit, wrong.err]).toEqual([2, expect.stringMatching(/wrong\.yaml:2:8 table: There is no table/)])
    const used = await run(['withdraw', '--mapping', 'observer', '--check'])
    expect([used.exit, used.err]).toEqual([
      1,
      expect.stringMatching(/observer is linked to by the mappings .*programme/),
    ])
    expect(await run(['withdraw'])).toMatchObject({ exit: 2, err: expect.stringMatching(/--mapping NAME/) as string })
    const file = join(folder, 'twice.yaml')
    writeFileSync(file, `transaction: twice\nsteps: [{ load: programme, as: it, key: { code: "'P-107'" } }]\n`)
    expect((await run(['publish', file])).exit).toBe(0)
    expect((await run(['withdraw', '--transaction', 'twice', '--check'])).out).toMatch(/nothing was withdrawn/)
    expect((await run(['withdraw', '--transaction', 'twice'])).out).toMatch(/transaction +twice +1 +withdrawn/)
    expect((await run(['run', 'twice'])).exit).toBe(3)
  })

  it('and drills end with an exit code, a line each for those in files, and XML for CI', async () => {
    const save = ['programme', 'P-107', 'hoursLeft=3', '--with', 'programme', 'P-107', 'hoursLeft=4']
    const guarded = await run(['drill', ...save])
    expect([guarded.exit, guarded.err]).toEqual([0, expect.any(String)])
    expect(guarded).toMatchObject({
      out: expect.stringMatching(/read committed +as defined +20 +2 +18/) as string,
    })
    const blind = await run(['drill', ...save, '--guard', 'none'])
    expect([blind.exit, blind.out]).toEqual([1, expect.stringMatching(/lost update 18[\s\S]*B +2 +change loaded/)])
    const drills = join(folder, 'drills')
    mkdirSync(drills)
    const kept = (name: string, expected: string) =>
      writeFileSync(
        join(drills, `${name}.drill.yaml`),
        `drill: ${name}\nkind: interleaving\nguard: [none]\nruns:\n  - &save { mapping: programme, key: { code: P-107 }, values: { hoursLeft: '3.00' } }\n  - *save\nexpect: { anomalies: [${expected}] }\n`,
      )
    kept('as-known', 'lost update')
    kept('hoped', '')
    const all = await run(['drill', '--all', drills, '--junit', join(folder, 'drills.xml')])
    expect([all.exit, all.out]).toEqual([
      1,
      expect.stringMatching(/ok +as-known.*\n!! +hoped.*expected no anomaly, found lost update[\s\S]*1 of 2 drills/),
    ])
    expect(readFileSync(join(folder, 'drills.xml'), 'utf8')).toMatch(
      /<testsuite name="drills" tests="2" failures="1"[\s\S]*<testcase name="hoped"[\s\S]*<failure message="expected no anomaly/,
    )
    writeFileSync(join(drills, 'odd.drill.yaml'), 'drill: odd\nkind: fire\n')
    const odd = await run(['drill', '--all', drills])
    expect([odd.exit, odd.err]).toEqual([2, expect.stringMatching(/odd\.drill\.yaml: kind/)])
  })
})
