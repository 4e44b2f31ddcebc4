import { createServer } from 'node:net'
import getPort from 'get-port'
import { Failure } from './failure.js'

/** @throws Failure where somebody listens on the port already, naming the variable that chooses another. */
export async function assertPortFree(host: string, port: number, variable: string): Promise<void> {
  const error = await tryToListen(host, port)
  if (error === null) return
  if (error.code === 'EADDRINUSE')
    throw new Failure(`Port ${port} is in use. Stop what listens there, or choose another: ${variable}=PORT bin/start`)
  throw new Failure(`Cannot listen on ${host}:${port}: ${error.message}`)
}

/** Whether nobody listens there. */
export async function isPortFree(host: string, port: number): Promise<boolean> {
  return (await tryToListen(host, port)) === null
}

/** A port nobody listens on at this moment, and none that was given here just before. */
export function findFreePort(): Promise<number> {
  return getPort({ host: '127.0.0.1' })
}

function tryToListen(host: string, port: number): Promise<NodeJS.ErrnoException | null> {
  return new Promise((resolve) => {
    const server = createServer().once('error', resolve)
    server.listen(port, host, () => server.close(() => resolve(null)))
  })
}
