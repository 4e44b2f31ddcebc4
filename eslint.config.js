import prettier from 'eslint-config-prettier'
import vue from 'eslint-plugin-vue'
import globals from 'globals'
import ts from 'typescript-eslint'

// Which of our own packages each may import: the arrows of docs/architecture.md.
const ARROWS = {
  contract: [],
  core: ['contract'],
  service: ['contract', 'core'],
  client: ['contract'],
  cli: ['client', 'contract'],
  console: ['client', 'contract'],
  local: [],
}

const arrowRules = Object.entries(ARROWS).map(([name, allowed]) => ({
  files: [`packages/${name}/src/**/*.{ts,vue}`],
  rules: {
    'no-restricted-imports': [
      'error',
      {
        patterns: [
          ...Object.keys(ARROWS)
            .filter((other) => !allowed.includes(other))
            .map((other) => ({ group: [`@ledgerman/${other}`], message: `${name} does not import ${other}.` })),
          { group: ['@ledgerman/*/*'], message: 'Import what a package exports, not its insides.' },
          { group: ['../../../*'], message: 'Import another package by its name.' },
        ],
      },
    ],
  },
}))

const corePurity = {
  files: ['packages/core/src/**/*.ts'],
  rules: {
    'no-restricted-globals': ['error', { name: 'process', message: 'What the core needs is passed in.' }],
    'no-console': 'error',
  },
}

export default ts.config(
  { ignores: ['**/dist/**', '.ledgerman/**', 'coverage/**'] },
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
  corePurity,
  { files: ['**/*.cjs'], rules: { '@typescript-eslint/no-require-imports': 'off' } },
  { files: ['bench/**'], rules: { 'no-console': 'off' } },
  prettier,
)
