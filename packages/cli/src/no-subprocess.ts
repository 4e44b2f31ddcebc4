/** In place of `node:child_process`: commander loads it for commands that are programs of their own, and there are none. */
export function spawn(): never {
  throw new Error('No command is a program of its own.')
}
