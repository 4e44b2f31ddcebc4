import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import ts from 'typescript'
import type { CodeFile } from '@ledgerman/contract'

const ROOT = join(import.meta.dirname, '..')

/** Written code, compiled as a developer would: strictly, with nothing but node-postgres beside it. */
export interface CompiledCode {
  dir: string
  /** What its index exports. */
  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- it is written while the tests run: nothing can know its types
  module: any
  remove(): void
}

/** @throws Error with what the compiler says */
export async function compileCode(files: readonly CodeFile[]): Promise<CompiledCode> {
  const dir = compileInto(files)
  return { dir, module: await import(join(dir, 'index.js')), remove: () => rmSync(dir, { recursive: true }) }
}

/** Compiles files in a folder of their own. @returns the folder. @throws Error with what the compiler says */
export function compileInto(files: readonly CodeFile[]): string {
  const parent = join(ROOT, 'node_modules/.cache')
  mkdirSync(parent, { recursive: true })
  const dir = mkdtempSync(join(parent, 'emitted-'))
  writeFileSync(join(dir, 'package.json'), '{ "type": "module" }')
  for (const { path, text } of files) {
    mkdirSync(dirname(join(dir, path)), { recursive: true })
    writeFileSync(join(dir, path), text)
  }
  const wrong = compileThere(
    dir,
    files.map(({ path }) => join(dir, path)),
  )
  if (wrong !== '') throw new Error(`The code does not compile:\n${wrong}`)
  return dir
}

const OPTIONS: ts.CompilerOptions = {
  target: ts.ScriptTarget.ES2023,
  // Without the browser's library, which takes longer to read than all else.
  lib: ['lib.es2023.d.ts'],
  module: ts.ModuleKind.NodeNext,
  strict: true,
  exactOptionalPropertyTypes: true,
  noUncheckedIndexedAccess: true,
  noUnusedLocals: true,
  noUnusedParameters: true,
  noImplicitOverride: true,
  noImplicitReturns: true,
  noPropertyAccessFromIndexSignature: true,
  verbatimModuleSyntax: true,
  // As Node asks of TypeScript that it runs as it stands.
  erasableSyntaxOnly: true,
  skipLibCheck: true,
  esModuleInterop: true,
  types: ['node'],
}

/** What the libraries declare is read once. */
const declarations = new Map<string, ts.SourceFile | undefined>()

/** Compiles files where they stand. @returns what the compiler says against it; empty where it says nothing */
function compileThere(dir: string, files: string[]): string {
  const host = ts.createCompilerHost(OPTIONS)
  const read = host.getSourceFile.bind(host)
  host.getCurrentDirectory = () => dir
  host.getSourceFile = (name, ...how) => {
    if (name.startsWith(dir)) return read(name, ...how)
    if (!declarations.has(name)) declarations.set(name, read(name, ...how))
    return declarations.get(name)
  }
  const program = ts.createProgram(files, OPTIONS, host)
  const { diagnostics } = program.emit()
  return ts.formatDiagnostics([...ts.getPreEmitDiagnostics(program), ...diagnostics], host)
}
