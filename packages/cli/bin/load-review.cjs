'use strict'

// The program is run as a script that was compiled ahead, and such a one cannot import modules: this file does it for it.
module.exports = () => import('@ledgerman/review')
