import { parentPort } from 'node:worker_threads'
import { readSource } from '../extract/read-source.js'
import type { SourceLanguage } from '../extract/grammar.js'

// The other side of ReadingThread: reads one file at a time, and answers each.

export interface AskedFile {
  language: SourceLanguage
  text: string
}

parentPort?.on('message', ({ language, text }: AskedFile) => {
  readSource(language, text).then(
    (read) => parentPort?.postMessage({ read }),
    // The parser has run out of its memory, and is broken; ReadingThread ends this thread.
    (error: unknown) =>
      parentPort?.postMessage(error instanceof Error && error.name === 'RuntimeError' ? {} : { error: String(error) }),
  )
})
