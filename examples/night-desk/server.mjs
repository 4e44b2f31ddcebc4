// A small service of the kind Ledgerman is made for: it loads records, assigns to them and commits, and moves hours between two
// programmes by a published transaction. Run it with LEDGERMAN_URL and LEDGERMAN_TOKEN set.
import express from 'express'
import { LedgermanClient } from '@ledgerman/client'
import { isProblem, problemCatalogue } from '@ledgerman/contract'

const ledgerman = new LedgermanClient({ url: process.env.LEDGERMAN_URL, token: process.env.LEDGERMAN_TOKEN })
const app = express().use(express.json())

// Load, assign, commit. Whoever was faster is told apart, and the change is applied to their state: nothing is overwritten unseen.
app.post('/programmes/:code/tags', async (request, response) => {
  const draft = ledgerman.draft('observatory')
  const programme = await draft.load('programme', { code: request.params.code })
  const receipt = await draft.retry(() => {
    programme.tags = [...new Set([...programme.tags, request.body.tag])]
    programme.settings.lastTag = request.body.tag
  })
  response.json({ tags: programme.tags, guard: receipt.steps[0].rows[0]?.guard, entry: receipt.entry })
})

// Two records, one commit: both, or neither.
app.post('/blocks/:id/hand-over', async (request, response) => {
  const draft = ledgerman.draft('observatory')
  const block = await draft.load('block', { id: Number(request.params.id) })
  const observer = await draft.load('observer', { badgeNo: request.body.badgeNo })
  block.assignedTo = observer.id
  observer.active = true
  response.json({
    pending: draft.pending(),
    outcome: (await draft.commit({ note: 'handed over at the desk' })).outcome,
  })
})

// A rule in the middle, all or nothing, and safe to send again: the key makes it take effect once.
app.post('/transfers', async (request, response) => {
  const { from, to, hours } = request.body
  const run = { mode: 'commit', transaction: 'move-hours', params: { from, to, hours } }
  const receipt = await ledgerman.target('observatory').run(run, { idempotencyKey: request.get('idempotency-key') })
  response.status(receipt.replayed ? 200 : 201).json({ entry: receipt.entry, replayed: receipt.replayed })
})

app.use((error, _request, response, next) => {
  if (!isProblem(error)) return next(error)
  response.status(problemCatalogue[error.code].status).json({ code: error.code, message: error.detail })
})

const server = app.listen(Number(process.env.PORT ?? 8080), '127.0.0.1', () =>
  process.stdout.write(`night desk on ${server.address().port}\n`),
)
