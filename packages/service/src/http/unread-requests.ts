import type { IncomingMessage, Server, ServerResponse } from 'node:http'
import type { Socket } from 'node:net'
import { LedgermanProblem, printJson, toProblemDocument } from '@ledgerman/contract'

/** The longest address and headers of a request, in bytes: room for the longest expression, percent-encoded. */
export const HEADER_LIMIT_BYTES = 64 * 1024

interface ReadError extends NodeJS.ErrnoException {
  /** What Node's parser (llhttp) has against it. */
  reason?: string
}

/**
 * Answers what never becomes a request, because Node cannot read it or it does not come in time. Node's own answers have no body, and so say
 * neither what is wrong nor what to do.
 */
export function answerUnread(server: Server): void {
  const answering = new WeakMap<Socket, ServerResponse>()
  server.on('request', (request: IncomingMessage, response: ServerResponse) => answering.set(request.socket, response))
  server.on('clientError', (error: ReadError, socket: Socket) => {
    const response = answering.get(socket)
    // What is said while a request that came whole is at work would be taken for its answer, and it may be committing; or for a part of that.
    const isAtWork = response?.writableFinished === false && (response.headersSent || response.req.complete)
    // Nor is one answered who asked nothing: a browser takes the answer for that of what it asks next on the connection.
    const isSpare = socket.bytesRead === 0
    if (error.code === 'ECONNRESET' || !socket.writable || isAtWork || isSpare) return void socket.destroy()
    const { code, detail, facts } = whatIsWrong(error)
    const document = toProblemDocument(code, detail, facts)
    const body = printJson(document)
    socket.end(
      [
        `HTTP/1.1 ${document.status} ${document.title}`,
        'Content-Type: application/problem+json; charset=utf-8',
        `Content-Length: ${Buffer.byteLength(body)}`,
        'Connection: close',
        '',
        body,
      ].join('\r\n'),
    )
  })
}

function whatIsWrong({ code, reason, message }: ReadError): LedgermanProblem {
  if (code === 'HPE_HEADER_OVERFLOW')
    return new LedgermanProblem(
      'too-large',
      `The address and the headers are longer than ${HEADER_LIMIT_BYTES} bytes. Send a long expression in the body of POST …/records/find.`,
      { where: 'headers', limitBytes: HEADER_LIMIT_BYTES },
    )
  if (code === 'ERR_HTTP_REQUEST_TIMEOUT')
    return new LedgermanProblem('time-limit', 'The request did not arrive in time.', { where: 'request' })
  return new LedgermanProblem('request-invalid', `This is not a request of HTTP/1.1: ${reason ?? message}.`, {
    where: 'request',
  })
}
