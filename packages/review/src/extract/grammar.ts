import { createRequire } from 'node:module'
import { Language, Parser, type Tree } from 'web-tree-sitter'

/** The languages that statements are read out of. */
export const LANGUAGES = ['sql', 'typescript', 'tsx', 'javascript', 'python', 'php', 'java', 'csharp'] as const
export type SourceLanguage = (typeof LANGUAGES)[number]

const GRAMMARS: Readonly<Record<Exclude<SourceLanguage, 'sql'>, string>> = {
  typescript: 'tree-sitter-typescript/tree-sitter-typescript.wasm',
  tsx: 'tree-sitter-typescript/tree-sitter-tsx.wasm',
  javascript: 'tree-sitter-javascript/tree-sitter-javascript.wasm',
  python: 'tree-sitter-python/tree-sitter-python.wasm',
  php: 'tree-sitter-php/tree-sitter-php.wasm',
  java: 'tree-sitter-java/tree-sitter-java.wasm',
  csharp: 'tree-sitter-c-sharp/tree-sitter-c_sharp.wasm',
}

const EXTENSIONS: Readonly<Record<string, SourceLanguage>> = {
  sql: 'sql',
  ts: 'typescript',
  mts: 'typescript',
  cts: 'typescript',
  tsx: 'tsx',
  js: 'javascript',
  mjs: 'javascript',
  cjs: 'javascript',
  jsx: 'javascript',
  py: 'python',
  php: 'php',
  java: 'java',
  cs: 'csharp',
}

/** The language of a file by its name; undefined where it is none of these. */
export function languageOf(path: string): SourceLanguage | undefined {
  return EXTENSIONS[/\.(\w+)$/.exec(path)?.[1]?.toLowerCase() ?? '']
}

const require = createRequire(import.meta.url)
let ready: Promise<void> | undefined
const parsers = new Map<SourceLanguage, Promise<Parser>>()

/** How long a file may take to be parsed, in milliseconds. */
const LONGEST_MS = 2_000
/** The parser's memory at first and at most, in pages of 64 KiB: some programs of 100 kB would take all that there is. */
const MEMORY = { initial: 512, maximum: 8_192 }
/** Node's types leave it out. */
declare const WebAssembly: { Memory: new (limits: typeof MEMORY) => object }

/**
 * Parses a file; where it has syntax errors the rest of it is parsed all the same.
 *
 * @returns undefined where it takes too long.
 * @throws WebAssembly.RuntimeError where it takes too much memory: no other file can be parsed in this process or thread then.
 */
export async function parseSource(language: Exclude<SourceLanguage, 'sql'>, text: string): Promise<Tree | undefined> {
  await (ready ??= Parser.init({ wasmMemory: new WebAssembly.Memory(MEMORY), printErr: () => undefined }))
  let loading = parsers.get(language)
  if (!loading) parsers.set(language, (loading = load(language)))
  const parser = await loading
  const until = performance.now() + LONGEST_MS
  const tree = parser.parse(text, null, { progressCallback: () => performance.now() > until })
  if (!tree) parser.reset()
  return tree ?? undefined
}

async function load(language: Exclude<SourceLanguage, 'sql'>): Promise<Parser> {
  const parser = new Parser()
  parser.setLanguage(await Language.load(require.resolve(GRAMMARS[language])))
  return parser
}
