import { once } from 'node:events'
import { writeSync } from 'node:fs'
import { isDevice } from './plain-output.js'

/** The process's standard output. */
export interface StandardOutput {
  write(text: string | Uint8Array): void
  /** Resolves when there is room for more. */
  drained(): Promise<void>
  /** Calls back once all is written. */
  flush(then: () => void): void
  /** Of the terminal; undefined for a file or a pipe. */
  columns: number | undefined
  isTerminal: boolean
}

type Fail = (error: NodeJS.ErrnoException) => void

/**
 * Standard output as it is best written: a file or a pipe straight away, since the stream that Node makes for it takes longer to load than
 * all that a command prints.
 *
 * @param fail told what keeps the output from being written
 */
export function openStandardOutput(fail: Fail): StandardOutput {
  return isDevice ? openStream(fail) : openDescriptor(fail)
}

function openStream(fail: Fail): StandardOutput {
  const { stdout } = process
  stdout.on('error', fail)
  return {
    write: (text) => void stdout.write(text, (error) => error && fail(error)),
    drained: async () => void (stdout.writableNeedDrain && (await once(stdout, 'drain'))),
    flush: (then) => void stdout.write('', then),
    columns: stdout.columns,
    isTerminal: stdout.isTTY,
  }
}

function openDescriptor(fail: Fail): StandardOutput {
  let stream: StandardOutput | undefined
  const write = (text: string | Uint8Array) => {
    if (stream) return stream.write(text)
    let rest = typeof text === 'string' ? Buffer.from(text) : text
    try {
      while (rest.length > 0) rest = rest.subarray(writeSync(1, rest))
    } catch (error) {
      // A pipe that another process made one that does not wait: from now on Node waits for its reader.
      if ((error as NodeJS.ErrnoException).code === 'EAGAIN') (stream = openStream(fail)).write(rest)
      else fail(error as NodeJS.ErrnoException)
    }
  }
  return {
    write,
    drained: async () => stream?.drained(),
    flush: (then) => (stream ? stream.flush(then) : then()),
    columns: undefined,
    isTerminal: false,
  }
}
