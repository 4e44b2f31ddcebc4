import { createRequire } from 'node:module'
import { Worker } from 'node:worker_threads'
import type { AskedFile, ReadSource, SourceReader } from '@ledgerman/review'

/** How long one file may take, in milliseconds: what takes longer is said to be unread. */
const LONGEST_MS = 20_000
/** How long the thread waits for the next file before it ends, in milliseconds: its grammars take some 100 MB. */
const IDLE_MS = 60_000

interface Waiting {
  file: AskedFile
  resolve(read: ReadSource | undefined): void
  reject(error: Error): void
}

/**
 * Reads source files in a thread of its own: a large one takes seconds, in which the others would not be answered. One file is
 * read at a time; callers who review many wait for one another file by file.
 */
export class ReadingThread {
  readonly #waiting: Waiting[] = []
  #current: Waiting | undefined
  #worker: Worker | undefined
  #timer: NodeJS.Timeout | undefined

  readonly read: SourceReader = (language, text) =>
    new Promise((resolve, reject) => {
      this.#waiting.push({ file: { language, text }, resolve, reject })
      this.#next()
    })

  /** Ends it; what is being read is not read any more. */
  async close(): Promise<void> {
    for (const { reject } of this.#waiting.splice(0)) reject(new Error('the service stops'))
    this.#current?.reject(new Error('the service stops'))
    await this.#end()
  }

  #next(): void {
    if (this.#current) return
    clearTimeout(this.#timer)
    this.#current = this.#waiting.shift()
    if (!this.#current) {
      this.#timer = setTimeout(() => void this.#end(), IDLE_MS).unref()
      return
    }
    this.#timer = setTimeout(() => {
      this.#answer((waiting) => waiting.resolve(undefined))
      void this.#end().then(() => this.#next())
    }, LONGEST_MS).unref()
    this.#begun().postMessage(this.#current.file)
  }

  #begun(): Worker {
    if (this.#worker) return this.#worker
    const worker = new Worker(createRequire(import.meta.url).resolve('@ledgerman/review/reading-thread'))
    worker.unref()
    worker.on('message', ({ read, error }: { read?: ReadSource; error?: string }) => {
      this.#answer((waiting) => (error === undefined ? waiting.resolve(read) : waiting.reject(new Error(error))))
      this.#next()
    })
    const failed = (error: Error) => {
      if (this.#worker !== worker) return
      this.#worker = undefined
      this.#answer((waiting) => waiting.reject(error))
      this.#next()
    }
    worker.on('error', failed)
    worker.on('exit', (code) => failed(new Error(`the thread that reads source ended with ${code}`)))
    return (this.#worker = worker)
  }

  #answer(how: (waiting: Waiting) => void): void {
    const current = this.#current
    this.#current = undefined
    if (current) how(current)
  }

  async #end(): Promise<void> {
    clearTimeout(this.#timer)
    const worker = this.#worker
    this.#worker = undefined
    await worker?.terminate()
  }
}
