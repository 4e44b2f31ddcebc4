import type { Execution, FunctionFacts } from './facts.js'
import { readExecutions } from './executions.js'
import { parseSource, type SourceLanguage } from './grammar.js'
import { readSqlFile } from '../sql/sql-file.js'
import { mayHoldSql } from './looks-like-sql.js'

/** What a source file runs. It holds nothing but data, so that another thread can read it. */
export interface ReadSource {
  executions: Execution[]
  functions: FunctionFacts[]
  file: FunctionFacts | undefined
}

/** Reads the statements out of source code; undefined where it takes too long, or too much memory. */
export type SourceReader = (language: SourceLanguage, text: string) => Promise<ReadSource | undefined>

/** Reads a file here and now: for large ones it keeps the thread busy for seconds. */
export const readSource: SourceReader = async (language, text) => {
  if (language === 'sql') return { executions: readSqlFile(text), functions: [], file: undefined }
  if (!mayHoldSql(text)) return { executions: [], functions: [], file: undefined }
  const tree = await parseSource(language, text)
  if (!tree) return undefined
  try {
    return readExecutions(tree, language)
  } finally {
    tree.delete()
  }
}
