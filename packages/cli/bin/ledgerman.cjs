#!/usr/bin/env node
'use strict'

// Most of what a short command takes is Node reading the program and compiling it. So it is one CommonJS file, run as V8 compiled it when
// it was built; another version of Node rejects that and compiles it again.
const { readFileSync } = require('node:fs')
const path = require('node:path')
const vm = require('node:vm')

const filename = path.join(__dirname, '../dist/ledgerman.cjs')
/** The program behind what V8 made of it, whose length stands before both: one file is read in half the time of two. */
const compiledFile = path.join(__dirname, '../dist/ledgerman.compiled')
const LENGTH_BYTES = 4
// As node:module has it, which takes longer to load than the program does.
const WRAPPER = ['(function (exports, require, module, __filename, __dirname) { ', '\n});']

/** Runs the program, and gives it as a script. */
function run({ source, cachedData }) {
  const script = new vm.Script(source, { filename, cachedData })
  const program = new module.constructor(filename, module)
  program.filename = filename
  program.paths = module.paths
  // Parts of the program that are loaded later share what this one has loaded.
  require.cache[filename] = program
  const load = (id) => program.require(id)
  script.runInThisContext()(program.exports, load, program, filename, path.dirname(filename))
  return script
}

/** The program as it was built, which has no other characters than those of ASCII. */
function readSource() {
  return { source: WRAPPER.join(readFileSync(filename, 'latin1')) }
}

function readCompiled() {
  let compiled
  try {
    compiled = readFileSync(compiledFile)
  } catch {
    return readSource()
  }
  const end = LENGTH_BYTES + compiled.readUInt32LE(0)
  return { source: compiled.toString('latin1', end), cachedData: compiled.subarray(LENGTH_BYTES, end) }
}

if (require.main === module) run(readCompiled())
module.exports = { run, readSource, compiledFile }
