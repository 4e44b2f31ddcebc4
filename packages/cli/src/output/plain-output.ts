import { fstatSync } from 'node:fs'

/** Whether standard output is a terminal, or another device, and no file or pipe. */
export const isDevice = fstatSync(1).isCharacterDevice()

// Imported before what chooses colours: that asks Node's stream whether it is a terminal, and to load the stream takes longer than all that
// a command prints.
const { FORCE_COLOR, CI } = process.env
if (!FORCE_COLOR && !CI && !isDevice) process.env['NO_COLOR'] ||= '1'
