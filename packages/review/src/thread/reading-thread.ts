import { createRequire } from 'node:module'
import { Worker } from 'node:worker_threads'
import type { ReadSource, SourceReader } from '../extract/read-source.js'
import type { AskedFile } from './worker.js'

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
 * Reads source files in a thread of its own: a large one takes seconds, in which nobody else would be answered, and some programs break their parser,
 * which takes its process along. One file is read at a time; callers who review many wait for one another file by file.
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
    for (const { reject } of this.#waiting.splice(0)) reject(new Error('the reading of source code was ended'))
    this.#current?.reject(new Error('the reading of source code was ended'))
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
    this.#timer = setTimeout(() => this.#giveUp(), LONGEST_MS).unref()
    const worker = this.#begun()
    // Somebody waits for it.
    worker.ref()
    worker.postMessage(this.#current.file)
  }

  #begun(): Worker {
    if (this.#worker) return this.#worker
    const worker = new Worker(createRequire(import.meta.url).resolve('@ledgerman/review/reading-thread'))
    worker.on('message', ({ read, error }: { read?: ReadSource; error?: string }) => {
      if (this.#worker !== worker) return
      if (read === undefined && error === undefined) return this.#giveUp()
      this.#answer((waiting) => (read ? waiting.resolve(read) : waiting.reject(new Error(error))))
      this.#next()
    })
    const ended = () => {
      if (this.#worker === worker) this.#giveUp()
    }
    worker.on('error', ended)
    worker.on('exit', ended)
    return (this.#worker = worker)
  }

  /** What is being read is left unread. The next is read by a new thread: this one may be broken, and keeps the memory that it took. */
  #giveUp(): void {
    this.#answer((waiting) => waiting.resolve(undefined))
    void this.#end().then(() => this.#next())
  }

  #answer(how: (waiting: Waiting) => void): void {
    const current = this.#current
    this.#current = undefined
    this.#worker?.unref()
    if (current) how(current)
  }

  async #end(): Promise<void> {
    clearTimeout(this.#timer)
    const worker = this.#worker
    this.#worker = undefined
    await worker?.terminate()
  }
}
