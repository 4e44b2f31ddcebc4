import express from 'express'
import pg from 'pg'
import { transferByHand } from './cases/transfers.js'
import { changeByHand, loadByHand } from './hand-written.js'

// A hand-written endpoint, as a process of its own: node hand-written-server.js PORT URL
const [port, url] = process.argv.slice(2)
const pool = new pg.Pool({ connectionString: url, max: 16 })
const app = express().use(express.json())

app.get('/allocations/:id', async (request, response) => {
  const row = await loadByHand(pool, Number(request.params.id))
  if (!row) return void response.status(404).end()
  response.set('etag', `"${String(row['row_version'])}"`).json(row)
})
app.patch('/allocations/:id', async (request, response) => {
  const { hours } = request.body as { hours: string }
  const row = await changeByHand(
    pool,
    Number(request.params.id),
    Number(request.headers['if-match']?.replaceAll('"', '')),
    hours,
  )
  response.set('etag', `\"${String(row?.['row_version'])}\"`).json(row)
})
app.post('/transfers', async (request, response) => {
  const { from, to } = request.body as { from: string; to: string }
  await transferByHand(pool, from, to, false)
  response.status(201).json({ done: true })
})
app.listen(Number(port), '127.0.0.1')
