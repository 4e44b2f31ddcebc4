import { fstatSync } from 'node:fs'

// Imported before what chooses colours: that asks Node's stream whether it is a terminal, and a file or a pipe is none. To load that stream
// takes longer than all that a command prints.
const { FORCE_COLOR, CI } = process.env
if (!FORCE_COLOR && !CI && !fstatSync(1).isCharacterDevice()) process.env['NO_COLOR'] ||= '1'
