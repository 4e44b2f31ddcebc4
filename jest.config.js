// Tests run against the TypeScript sources: the "ledgerman-source" condition of each package's exports leads there.
const shared = {
  testEnvironment: 'node',
  testEnvironmentOptions: { customExportConditions: ['ledgerman-source', 'node', 'node-addons'] },
  extensionsToTreatAsEsm: ['.ts'],
  transform: { '\\.ts$': ['ts-jest', { useESM: true, tsconfig: 'testing/tsconfig.json' }] },
  moduleNameMapper: { '^(\\.{1,2}/.*)\\.js$': '$1' },
}

const project = (displayName, testMatch) => ({
  ...shared,
  displayName,
  testMatch: testMatch.map((path) => `<rootDir>/${path}`),
})

export default {
  testTimeout: Number(process.env.LEDGERMAN_TEST_LIMIT_MS ?? 120_000),
  // Many tests wait for what has to take its time: a third worker uses what is left of two processors.
  maxWorkers: 3,
  testSequencer: '<rootDir>/testing/longest-first.mjs',
  projects: [
    project('pure', ['packages/{contract,seal,review,core,cli,client,service}/test/pure/**/*.test.ts']),
    project('core', ['packages/core/test/database/**/*.test.ts']),
    project('service', ['packages/{service,client}/test/http/**/*.test.ts']),
    project('cli', ['packages/cli/test/process/**/*.test.ts']),
    project('local', ['packages/local/test/**/*.test.ts']),
    project('console', ['packages/console/test/**/*.test.ts']),
  ],
}
