import { createRequire } from 'node:module'
import { posix } from 'node:path'
import pg from 'pg'
import { setImmediate as turn, setTimeout as delay } from 'node:timers/promises'
import type TypeScript from 'typescript'
import type { CodeFile } from '@ledgerman/contract'
import type { CodeModule, ProofTools } from '@ledgerman/core'

const fromHere = createRequire(import.meta.url)

/** How long sessions may take to come back, in milliseconds: the scratch database is dropped with those that do not. */
const CLOSE_LIMIT_MS = 2_000

/** How many sessions a proof holds: a transaction, and one for what its entries need. */
const SESSIONS = 4

/** Compiles and runs written code in memory: it finds its own files, node-postgres and node's modules, and nothing else. */
export const proofTools: ProofTools = {
  async load(files) {
    // Few services ever need the compiler, and one file is compiled at a time: others are not to wait for all of them.
    const { default: ts } = await import('typescript')
    const sources = new Map<string, string>()
    for (const file of files) {
      sources.set(file.path, compile(ts, file))
      await turn()
    }
    const modules = new Map<string, { exports: CodeModule }>()
    return load('index.ts')

    function load(path: string): CodeModule {
      const known = modules.get(path)
      if (known) return known.exports
      const source = sources.get(path)
      if (source === undefined) throw new Error(`The written code has no file ${path}.`)
      const module = { exports: {} as CodeModule }
      modules.set(path, module)
      const run = new Function('exports', 'module', 'require', source) as Run
      run(module.exports, module, (name) =>
        /^\.\.?\//.test(name) ? load(posix.join(posix.dirname(path), name).replace(/\.js$/, '.ts')) : outside(name),
      )
      return module.exports
    }
  },
  pool(url, most = SESSIONS, settings = {}) {
    const pool = new pg.Pool({ ...settings, connectionString: url, max: most })
    // A session that breaks while nobody uses it is no news: the next call says so.
    pool.on('error', () => undefined)
    return { pool, end: () => Promise.race([pool.end(), delay(CLOSE_LIMIT_MS, undefined, { ref: false })]) }
  },
}

type Run = (exports: CodeModule, module: { exports: CodeModule }, require: (name: string) => unknown) => void

function outside(name: string): unknown {
  if (name === 'pg') return pg
  if (name.startsWith('node:')) return fromHere(name)
  throw new Error(`The written code may not import ${name}.`)
}

function compile(ts: typeof TypeScript, { path, text }: CodeFile): string {
  const compilerOptions = {
    module: ts.ModuleKind.CommonJS,
    target: ts.ScriptTarget.ES2023,
    esModuleInterop: true,
  }
  return ts.transpileModule(text, { fileName: path, compilerOptions }).outputText
}
