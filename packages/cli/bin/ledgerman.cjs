#!/usr/bin/env node
'use strict'

// Most of what a short command takes is Node reading the program and compiling it. So it is one CommonJS file, run as V8 compiled it when
// it was built; another version of Node rejects that and compiles it again.
const { readFileSync } = require('node:fs')
const path = require('node:path')
const vm = require('node:vm')

const filename = path.join(__dirname, '../dist/ledgerman.cjs')
const cacheFile = path.join(__dirname, '../dist/ledgerman.v8-code')
// As node:module has it, which takes longer to load than the program does.
const WRAPPER = ['(function (exports, require, module, __filename, __dirname) { ', '\n});']

/** Runs the program, and gives it as a script. */
function run(cachedData) {
  const script = new vm.Script(WRAPPER.join(readFileSync(filename, 'latin1')), { filename, cachedData })
  const program = new module.constructor(filename, module)
  program.filename = filename
  program.paths = module.paths
  // Parts of the program that are loaded later share what this one has loaded.
  require.cache[filename] = program
  const load = (id) => program.require(id)
  script.runInThisContext()(program.exports, load, program, filename, path.dirname(filename))
  return script
}

function readCache() {
  try {
    return readFileSync(cacheFile)
  } catch {
    return undefined
  }
}

if (require.main === module) run(readCache())
module.exports = { run, cacheFile }
