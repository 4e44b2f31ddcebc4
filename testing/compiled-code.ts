import { execFileSync } from 'node:child_process'
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
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
  const options = {
    target: 'es2023',
    // Without the browser's library, which takes longer to read than all else.
    lib: ['es2023'],
    module: 'nodenext',
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
  writeFileSync(join(dir, 'tsconfig.json'), JSON.stringify({ compilerOptions: options, include: ['**/*.ts'] }))
  try {
    execFileSync(process.execPath, [join(ROOT, 'node_modules/typescript/bin/tsc'), '-p', dir], { encoding: 'utf8' })
  } catch (error) {
    throw new Error(`The code does not compile:\n${(error as { stdout?: string }).stdout ?? String(error)}`)
  }
  return dir
}
