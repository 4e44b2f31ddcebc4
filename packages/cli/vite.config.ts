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
      name: 'runtime',
      // To find and read one more small file takes Node as long as the whole program takes to be read.
      generateBundle(_options, bundle) {
        const files = Object.values(bundle).filter((file) => file.type === 'chunk')
        const runtime = files.find((file) => file.name === 'rolldown-runtime')
        const entry = files.find((file) => file.isEntry)
        if (!runtime || !entry) throw new Error('the program or what its parts share is missing')
        const call = /require\(\W\.\/chunks\/rolldown-runtime\.cjs\W\)/
        if (!call.test(entry.code)) throw new Error('the program does not ask for what its parts share')
        entry.code = entry.code.replace(call, () => `(exports=>{${runtime.code};return exports})({})`)
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
