#!/usr/bin/env node
import '../dist/ledgerman.js'
