import type { OpenLine } from './line.js'

/** A line by Node's own sockets. */
export const openSocketLine: OpenLine = (address, message, heard) => {
  // To load it takes longer than most commands do without it.
  const { connect } = process.getBuiltinModule('node:net')
  const socket = connect(address).on('data', heard.bytes).on('end', heard.end).on('error', heard.failed)
  // Not ended: a proxy takes one who has said all for one who has gone.
  socket.write(message)
  return {
    pause: () => void socket.pause(),
    resume: () => void socket.resume(),
    close: () => void socket.destroy(),
  }
}
