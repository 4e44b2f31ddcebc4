import { existsSync, readdirSync, readFileSync } from 'node:fs'
import { dirname, join, relative, resolve } from 'node:path'

// What a stranger relies on to find their way through the core. Which folder may import which is held by lint.
const ROOT = resolve(import.meta.dirname, '../../src')
const TEMPLATES = resolve(ROOT, '../templates')
const FILES = readdirSync(ROOT, { recursive: true, encoding: 'utf8' }).filter((path) => path.endsWith('.ts'))
const textOf = (path: string) => readFileSync(resolve(ROOT, path), 'utf8')
const importsOf = (path: string) =>
  [...textOf(path).matchAll(/from '(\.[^']+)\.js'/g)]
    .map(([, to = '']) => relative(ROOT, join(ROOT, dirname(path), `${to}.ts`)))
    // What stands in code that is written out leads to files of its own.
    .filter((to) => FILES.includes(to))

const roomOf = (path: string) => path.split('/')[0] ?? ''
const ROOMS = new Set(FILES.filter((path) => path.includes('/')).map(roomOf))

describe('the core', () => {
  it('has no files that import one another in a circle', () => {
    const state = new Map<string, 'begun' | 'done'>()
    const visit = (path: string, way: string[]): string[] | undefined => {
      if (state.get(path) === 'done') return undefined
      if (state.get(path) === 'begun') return [...way.slice(way.indexOf(path)), path]
      state.set(path, 'begun')
      for (const next of importsOf(path)) {
        const circle = visit(next, [...way, path])
        if (circle) return circle
      }
      state.set(path, 'done')
      return undefined
    }
    for (const path of FILES) expect(visit(path, [])).toBeUndefined()
  })

  it('keeps its rooms apart', () => {
    const pairs = FILES.flatMap((path) => importsOf(path).map((to) => [roomOf(path), roomOf(to)].sort().join(' and ')))
    const between = new Set(pairs.filter((pair) => pair.split(' and ').every((room) => ROOMS.has(room))))
    for (const room of ROOMS) between.delete(`${room} and ${room}`)
    expect(between.size).toBeLessThanOrEqual(45)
  })

  it('says in each folder by which rules it is kept', () => {
    const folders = new Set(FILES.map((path) => dirname(path)).filter((folder) => folder !== '.'))
    for (const folder of [...folders, ...ROOMS]) {
      const readme = join(ROOT, folder, 'README.md')
      expect([folder, existsSync(readme)]).toEqual([folder, true])
      // What a README names is there.
      for (const [, name = ''] of readFileSync(readme, 'utf8').matchAll(/`((?:\.\.\/)*[\w/-]+(?:\.ts|\/))`/g))
        expect([folder, name, existsSync(join(ROOT, folder, name))]).toEqual([folder, name, true])
    }
  })

  it('has files short enough to be held in mind', () => {
    const copied = readdirSync(TEMPLATES, { recursive: true, encoding: 'utf8' }).filter((path) => path.endsWith('.ts'))
    const lengths = [...FILES, ...copied.map((path) => join(TEMPLATES, path))]
      .map((path) => textOf(path).split('\n').length)
      .sort((one, other) => one - other)
    expect(copied.length).toBeGreaterThan(5)
    expect(lengths[Math.floor(lengths.length / 2)]).toBeLessThan(120)
    expect(lengths.at(-1)).toBeLessThanOrEqual(400)
  })
})
