export { RawJson, parseJson, parsePrinted, printJson } from './json/exact-json.js'
export type { Json } from './json/exact-json.js'
export { quotedEnd } from './json/quoted-end.js'
export { DEEPEST_JSON, findJsonLimit } from './json/json-limits.js'
export { findLostMember, mayLoseMember } from './json/lost-member.js'
export { csvRecords, LONGEST_RECORD } from './csv/csv-records.js'
export type { CsvRecord } from './csv/csv-records.js'
export { fileInvalid } from './csv/file-invalid.js'
export { hasRunOfSigns } from './run-of-signs.js'
export { ROLES, role, includesRole } from './role.js'
export type { Role } from './role.js'
export { findNearestName, suggestName } from './nearest-name.js'
export { parseTablePath, toTablePath } from './table-path.js'
export type { TablePath } from './table-path.js'

export { problemCatalogue, PROBLEM_CODES } from './problem/catalogue.js'
export type { ProblemCode } from './problem/catalogue.js'
export { LedgermanProblem, isProblem } from './problem/ledgerman-problem.js'
export type { ProblemFacts } from './problem/ledgerman-problem.js'
export { toProblemDocument } from './problem/problem-document.js'
export { problemDocument } from './problem/problem-schema.js'
export type { BrokenValue, ProblemDocument } from './problem/problem-schema.js'
export { checkInput } from './problem/check-input.js'
export { describeIssues, sayIssue } from './problem/describe-issues.js'
export type { InputIssue } from './problem/describe-issues.js'

export { definitionName, mappingDefinition } from './definition/mapping-definition.js'
export type {
  FindDefinition,
  MappingDefinition,
  GuardDefinition,
  LinkDefinition,
} from './definition/mapping-definition.js'

export {
  durationMs,
  LONGEST_TIME_LIMIT_MS,
  stepInput,
  stepDefinition,
  transactionDefinition,
  transactionDefinitionShape,
  transactionName,
  runLimits,
} from './definition/transaction-definition.js'
export type {
  AddStep,
  ChangeStep,
  Expectation,
  Isolation,
  LoadStep,
  RemoveStep,
  ReplaceStep,
  RequireStep,
  SqlStep,
  StepDefinition,
  TransactionDefinition,
} from './definition/transaction-definition.js'

export * from './receipt/receipt-kinds.js'
export { hasChanged, wayBackOf } from './receipt/way-back.js'
export { receipt } from './receipt/receipt.js'
export { roundMs } from './receipt/round-ms.js'
export type { Receipt, StepReceipt, RowReceipt, BindReceipt } from './receipt/receipt.js'

export * from './http/tokens.js'
export * from './http/targets.js'
export * from './http/tables.js'
export * from './http/mappings.js'
export * from './http/records.js'
export * from './http/definitions.js'
export * from './http/waits.js'
export * from './http/runs.js'
export * from './http/transactions.js'
export * from './http/entries.js'
export * from './http/history.js'
export * from './http/seal.js'
export { PLACEHOLDER_STYLES, restyle, restyleAll } from './placeholders/restyle.js'
export type { PlaceholderStyle } from './placeholders/restyle.js'
export * from './http/code.js'
export * from './http/overview.js'
export * from './http/review.js'
export * from './http/job-kinds.js'
export * from './http/jobs.js'
export * from './http/drill-kinds.js'
export * from './http/drills.js'
export { entryAddress } from './http/entry-address.js'
export { toRecordAddress, toRecordPath, isSwallowed, fromRecordAddress } from './http/record-address.js'
