'use strict'

// Runs a command once, against an answer of its own, and keeps what V8 compiled for it (bin/ledgerman.cjs).
const fs = require('node:fs')
const { createServer } = require('node:http')
const { compiledFile, readSource, run } = require('./bin/ledgerman.cjs')

const answer = JSON.stringify({ record: { code: 'P-107', hoursLeft: '18.50', tags: ['imaging'] }, guard: 'v1' })
const server = createServer((_request, response) => {
  response.setHeader('content-type', 'application/json').end(answer)
  server.close()
})
server.listen(0, '127.0.0.1', () => {
  const { port } = server.address()
  Object.assign(process.env, {
    LEDGERMAN_URL: `http://127.0.0.1:${port}`,
    LEDGERMAN_TOKEN: 'none',
    LEDGERMAN_TARGET: 'observatory',
  })
  process.argv = [process.argv[0], 'ledgerman', 'load', 'programme', 'P-107']
  fs.fstatSync = () => ({ isCharacterDevice: () => false })
  const { writeSync } = fs
  fs.writeSync = (_output, bytes) => bytes.length
  const { source } = readSource()
  const script = run({ source })
  process.on('exit', () => {
    fs.writeSync = writeSync
    const code = script.createCachedData()
    const length = Buffer.alloc(4)
    length.writeUInt32LE(code.length)
    fs.writeFileSync(compiledFile, Buffer.concat([length, code, Buffer.from(source, 'latin1')]))
  })
})
