import type { Explained } from '@ledgerman/contract'
import type { FindMappingByName } from '../../mapping/links.js'
import type { Mapping } from '../../mapping/mapping.js'
import type { Target } from '../../target/target.js'
import { explainStatement } from '../../target/explain-statement.js'
import { prepareFind, type PageRequest } from './find-records.js'
import { readFindRequest } from './find-request.js'

/** Shows how a page would be found, without finding it. @throws LedgermanProblem as `findRecords` */
export async function explainFind(
  target: Target,
  mapping: Mapping,
  request: PageRequest,
  findMapping: FindMappingByName,
  signal?: AbortSignal,
): Promise<Explained> {
  const find = prepareFind(target, mapping, request, await readFindRequest(mapping, request, false, findMapping))
  return explainStatement(target, mapping, find.statement, find.values, signal)
}
