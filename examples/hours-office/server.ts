// A small service on code that was written out of the definitions: nothing of Ledgerman runs beside it. The code in data/ comes from
// ledgerman emit examples/hours-office/data --mapping programme --transaction move-hours. Run it with DATABASE_URL set.
import express, { type ErrorRequestHandler } from 'express'
import pg from 'pg'
import {
  changeProgramme,
  DataError,
  findProgramme,
  loadProgramme,
  moveHours,
  POOL_SETTINGS,
  RecordChanged,
  RecordMissing,
  RuleBroken,
} from './data/index.js'

const pool = new pg.Pool({ ...POOL_SETTINGS, connectionString: process.env['DATABASE_URL'], max: 5 })
const app = express().use(express.json())

app.get('/programmes', async (request, response) => {
  const found = await findProgramme(pool, { semester: String(request.query['semester']) }, { limit: 20 })
  response.json(found.map(({ record }) => ({ code: record.code, hoursLeft: record.hoursLeft })))
})

// What the caller saw goes back and forth as the ETag: whoever was faster is told apart, and nothing is overwritten unseen.
app.get('/programmes/:code', async (request, response) => {
  const { record, guard } = await loadProgramme(pool, { code: request.params.code })
  response.set('etag', `"${guard}"`).json(record)
})

app.patch('/programmes/:code', async (request, response) => {
  const { record } = await loadProgramme(pool, { code: request.params.code })
  const guard = request.get('if-match')?.slice(1, -1) ?? null
  const { title, priority } = request.body as { title?: string; priority?: number }
  const changes = { ...(title === undefined ? {} : { title }), ...(priority === undefined ? {} : { priority }) }
  const changed = await changeProgramme(pool, { record, guard }, changes)
  response.set('etag', `"${changed.guard}"`).json({ changed: changed.changed, record: changed.record })
})

// Both programmes and the note of the transfer, or nothing.
app.post('/transfers', async (request, response) => {
  response.status(201).json(await moveHours(pool, request.body as Parameters<typeof moveHours>[1]))
})

const answerErrors: ErrorRequestHandler = (error, _request, response, next) => {
  if (!(error instanceof DataError)) return next(error)
  const status =
    error instanceof RecordMissing
      ? 404
      : error instanceof RecordChanged
        ? 412
        : error instanceof RuleBroken
          ? 422
          : 409
  const current = error instanceof RecordChanged ? { current: error.current } : {}
  response.status(status).json({ code: error.code, message: error.message, ...current })
}
app.use(answerErrors)

const server = app.listen(Number(process.env['PORT'] ?? 8080), '127.0.0.1', () => {
  const address = server.address()
  process.stdout.write(`hours office on ${typeof address === 'object' ? address?.port : address}\n`)
})
