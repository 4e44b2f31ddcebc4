import prettier from 'eslint-config-prettier'
import regexp from 'eslint-plugin-regexp'
import vue from 'eslint-plugin-vue'
import globals from 'globals'
import ts from 'typescript-eslint'

// Which of our own packages each may import: the arrows of docs/architecture.md.
const ARROWS = {
  contract: [],
  seal: ['contract'],
  core: ['contract', 'seal'],
  review: ['contract'],
  service: ['contract', 'seal', 'review', 'core'],
  client: ['contract'],
  cli: ['client', 'contract', 'seal', 'review'],
  console: ['client', 'contract'],
  local: [],
}

const arrowPatterns = (name) => [
  ...Object.keys(ARROWS)
    .filter((other) => !ARROWS[name].includes(other))
    .map((other) => ({ group: [`@ledgerman/${other}`], message: `${name} does not import ${other}.` })),
  { group: ['@ledgerman/*/*'], message: 'Import what a package exports, not its insides.' },
  { group: ['../../../*'], message: 'Import another package by its name.' },
]

const arrowRules = Object.keys(ARROWS).map((name) => ({
  files: [`packages/${name}/src/**/*.{ts,vue}`],
  rules: { 'no-restricted-imports': ['error', { patterns: arrowPatterns(name) }] },
}))

// The rooms of the core and the rooms within them, a line a layer: each may import what stands above it.
const CORE_LAYERS = [
  ['values', 'sessions', 'run/lanes'],
  ['values/expression', 'sessions/sharing', 'sessions/waits', 'mapping/catalogue'],
  ['mapping'],
  ['statement'],
  ['target/problem'],
  ['target'],
  ['plan', 'run/find'],
  ['plan/one-statement'],
  ['book', 'code'],
  ['book/sealing', 'run/record'],
  ['run/steps'],
  ['bulk'],
  ['bulk/reversal'],
  ['drill'],
]
const CORE_FOLDERS = CORE_LAYERS.flat()
const isParted = (folder) => CORE_FOLDERS.some((other) => other.startsWith(`${folder}/`))

/** What an import of a file in the folder looks like, from wherever: no two folders have the same last name. */
const importsOf = (folder, from) => [
  `**/${folder.split('/').at(-1)}/${isParted(folder) ? '*.js' : '**'}`,
  ...(from.startsWith(`${folder}/`) ? ['../*.js'] : []),
]

const layerRules = CORE_LAYERS.flatMap((layer, at) =>
  layer.map((folder) => {
    const others = CORE_LAYERS.slice(at)
      .flat()
      .filter((other) => other !== folder)
    const patterns = others.map((other) => ({
      group: importsOf(other, folder),
      message: `In the core ${folder} does not import ${other} (docs/architecture.md).`,
    }))
    return {
      files: [`packages/core/src/${folder}/${isParted(folder) ? '*' : '**/*'}.ts`],
      rules: { 'no-restricted-imports': ['error', { patterns: [...arrowPatterns('core'), ...patterns] }] },
    }
  }),
)

const corePurity = {
  files: ['packages/core/src/**/*.ts'],
  rules: {
    'no-restricted-globals': ['error', { name: 'process', message: 'What the core needs is passed in.' }],
    'no-console': 'error',
  },
}

// Two values that differ in digits that a double does not hold are printed alike by JSON's own printer.
const exactComparison = {
  files: ['packages/{core,service,client,console}/src/**/*.{ts,vue}'],
  rules: {
    'no-restricted-syntax': [
      'error',
      {
        selector:
          'BinaryExpression[operator=/^[!=]==$/] > CallExpression[callee.object.name="JSON"][callee.property.name="stringify"]',
        message: 'Compare what printJson writes: it keeps every digit.',
      },
    ],
  },
}

// A text of a caller's is read in linear time. A sticky pattern begins at one place only.
const linearPatterns = {
  files: ['packages/*/{src,templates}/**/*.{ts,vue}'],
  plugins: { regexp },
  rules: {
    'regexp/no-super-linear-backtracking': ['error', { report: 'potential' }],
    'regexp/no-super-linear-move': ['error', { report: 'potential', ignoreSticky: true }],
  },
}

export default ts.config(
  { ignores: ['**/dist/**', 'examples/*/data/**', 'packages/review/test/corpus/**', '.ledgerman/**', 'coverage/**'] },
  ...ts.configs.recommended,
  ...vue.configs['flat/recommended'],
  { languageOptions: { globals: globals.node }, linterOptions: { reportUnusedDisableDirectives: 'error' } },
  {
    files: ['**/*.vue'],
    languageOptions: { parserOptions: { parser: ts.parser }, globals: globals.browser },
    rules: { 'vue/multi-word-component-names': 'off' },
  },
  {
    rules: {
      eqeqeq: 'error',
      'no-console': 'error',
      'prefer-const': 'error',
      '@typescript-eslint/no-unused-vars': ['error', { argsIgnorePattern: '^_', varsIgnorePattern: '^_' }],
      '@typescript-eslint/consistent-type-imports': 'error',
    },
  },
  ...arrowRules,
  ...layerRules,
  corePurity,
  exactComparison,
  linearPatterns,
  { files: ['**/*.cjs'], rules: { '@typescript-eslint/no-require-imports': 'off' } },
  { files: ['bench/**'], rules: { 'no-console': 'off' } },
  prettier,
)
