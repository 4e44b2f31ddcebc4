import { rmSync } from 'node:fs'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vite'

const conditions = ['ledgerman-source', 'node', 'import', 'default']

// A few files for the command line: Node finds and reads hundreds of modules in the time that a command takes.
export default defineConfig({
  logLevel: 'warn',
  resolve: {
    conditions,
    alias: { 'node:child_process': fileURLToPath(new URL('src/no-subprocess.ts', import.meta.url)) },
  },
  // It finds its grammars beside its own files, and most commands need none of it.
  ssr: { noExternal: true, external: ['@ledgerman/review'], resolve: { conditions } },
  build: {
    ssr: 'src/main.ts',
    target: 'node20',
    outDir: 'dist',
    emptyOutDir: false,
    minify: true,
    rolldownOptions: {
      // What nobody parses needs no schema.
      treeshake: { manualPureFunctions: ['z'] },
      output: { format: 'cjs', entryFileNames: 'ledgerman.cjs', chunkFileNames: 'chunks/[name].cjs' },
    },
  },
  plugins: [
    {
      name: 'nothing-stale',
      // What V8 made of the program before would be run in its place.
      buildStart: () => rmSync(new URL('dist/ledgerman.compiled', import.meta.url), { force: true }),
    },
    {
      name: 'one-file',
      // To find and read one more small file takes Node as long as the whole program takes to be read. So what the program shares with its
      // parts stands in it, and the parts have it from there.
      generateBundle(_options, bundle) {
        const entry = Object.values(bundle).find((file) => file.type === 'chunk' && file.isEntry)
        if (entry?.type !== 'chunk') throw new Error('the program is missing')
        for (const name of entry.imports) {
          const shared = bundle[name]
          if (shared === undefined) continue
          const call = `require("./${name}")`
          const quoted = entry.code.includes(call) ? call : call.replaceAll('"', '`')
          if (shared.type !== 'chunk' || shared.imports.length > 0 || !entry.code.includes(quoted))
            throw new Error(`${name} cannot stand in the program`)
          const within = `exports[${JSON.stringify(name)}]`
          entry.code = entry.code.replace(quoted, () => `(${within}=(exports=>{${shared.code};return exports})({}))`)
          shared.code = `module.exports=require("../${entry.fileName}")[${JSON.stringify(name)}]`
        }
      },
    },
    {
      name: 'no-import',
      // Run as V8 compiled it, it has nobody to ask for a module.
      generateBundle(_options, bundle) {
        for (const file of Object.values(bundle)) {
          const [outside] = (file.type === 'chunk' ? file.dynamicImports : []).filter((name) => !(name in bundle))
          if (outside !== undefined) throw new Error(`the program imports ${outside} while it runs, and cannot`)
        }
      },
    },
    {
      name: 'ascii',
      // Text with no other characters is read as it stands, in half the time. The minifier writes them, so this comes after it.
      generateBundle(_options, bundle) {
        for (const file of Object.values(bundle))
          if (file.type === 'chunk')
            file.code = file.code.replace(
              /[^\0-\x7f]/g,
              (unit) => `\\u${unit.charCodeAt(0).toString(16).padStart(4, '0')}`,
            )
      },
    },
  ],
})
