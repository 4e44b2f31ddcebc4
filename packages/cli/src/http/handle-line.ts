import type { Address, Heard, Line, OpenLine } from './line.js'

/** What Node's own sockets stand on, as its `lib/net.js` and `lib/internal/stream_base_commons.js` use it. */
interface Handles {
  TCP: new (type: number) => Handle
  constants: { SOCKET: number }
  TCPConnectWrap: new () => Request
  WriteWrap: new () => Request
  /** How much was read, or why nothing is (below 0), and where in its buffer it begins, at the two places named. */
  streamBaseState: Int32Array
  kReadBytesOrError: number
  kArrayBufferOffset: number
}

interface Handle {
  onread: (buffer: ArrayBuffer | undefined) => void
  connect(request: Request, ip: string, port: number): number
  connect6(request: Request, ip: string, port: number): number
  writeBuffer(request: Request, bytes: Buffer): number
  readStart(): number
  readStop(): number
  close(): void
}

interface Request {
  oncomplete: (status: number) => void
  /** Kept until all of it is written. */
  buffer?: Buffer
}

const END_OF_FILE = -4095

/**
 * What opens a line on the handle that Node's sockets stand on: without the sockets themselves, which take Node longer to load than a
 * command takes without them. Undefined where this Node has no such handle or lets nobody have it, or where the host's name has to be looked up.
 */
export function findHandleLine({ host }: Address): OpenLine | undefined {
  const isSix = host.includes(':')
  if (!isSix && !/^\d+(?:\.\d+){3}$/.test(host)) return undefined
  const handles = findHandles()
  return (
    handles && ((address, message, heard) => openLine(handles, isSix ? 'connect6' : 'connect', address, message, heard))
  )
}

function openLine(
  { TCP, constants, TCPConnectWrap, WriteWrap, ...state }: Handles,
  connect: 'connect' | 'connect6',
  { host, port }: Address,
  message: Buffer,
  heard: Heard,
): Line {
  const at = ` ${host}:${port}`
  const handle = new TCP(constants.SOCKET)
  let isOpen = true
  const close = () => {
    if (isOpen) handle.close()
    isOpen = false
  }
  const failed = (call: string, status: number, where = '') => {
    if (!isOpen) return
    close()
    heard.failed(errorOf(call, status, where))
  }
  const connecting = new TCPConnectWrap()
  const writing = Object.assign(new WriteWrap(), { buffer: message })
  connecting.oncomplete = (status) => {
    if (status < 0 || !isOpen) return failed('connect', status, at)
    handle.readStart()
    const refused = handle.writeBuffer(writing, message)
    if (refused < 0) failed('write', refused)
  }
  writing.oncomplete = (status) => {
    if (status < 0) failed('write', status)
  }
  handle.onread = (buffer) => {
    const count = state.streamBaseState[state.kReadBytesOrError] ?? 0
    if (!isOpen || count === 0) return
    if (count === END_OF_FILE) heard.end()
    else if (count < 0 || buffer === undefined) failed('read', count)
    else heard.bytes(Buffer.from(buffer, state.streamBaseState[state.kArrayBufferOffset], count))
  }
  const refused = handle[connect](connecting, host, port)
  if (refused < 0) setImmediate(failed, 'connect', refused, at)
  return {
    pause: () => void (isOpen && handle.readStop()),
    resume: () => void (isOpen && handle.readStart()),
    close,
  }
}

function findHandles(): Handles | undefined {
  const { noDeprecation } = process
  // Node may warn that this is for its own use (DEP0111). It is known, and where it is missing a socket does the same.
  process.noDeprecation = true
  try {
    const { binding } = process as unknown as { binding: (name: string) => Partial<Handles> }
    const found = { ...binding('tcp_wrap'), ...binding('stream_wrap') }
    return isWhole(found) ? found : undefined
  } catch {
    return undefined
  } finally {
    process.noDeprecation = noDeprecation ?? false
  }
}

function isWhole(found: Partial<Handles>): found is Handles {
  return [found.TCP, found.constants?.SOCKET, found.TCPConnectWrap, found.WriteWrap, found.streamBaseState].every(
    (part) => part !== undefined,
  )
}

/** As Node's sockets tell it. */
function errorOf(call: string, status: number, where: string): Error {
  const code = process.getBuiltinModule('node:util').getSystemErrorName(status)
  return Object.assign(new Error(`${call} ${code}${where}`), { code, errno: status, syscall: call })
}
