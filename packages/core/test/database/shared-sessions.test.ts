import pg from 'pg'
import { loadRecord, parseKeyParts, Target, type Mapping } from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { shareOneSession, type SessionSharer } from '../../../../testing/session-sharer.js'

// A proxy that hands sessions round between transactions keeps nothing that is set in one for whoever set it.
let own: OwnTables
let account: Mapping
let sharer: SessionSharer
let target: Target
beforeAll(async () => {
  own = await openOwnTables()
  account = await own.mapped('public.account', `create table account (id integer primary key, note text)`)
  sharer = await shareOneSession(own.database.url)
  target = new Target({ name: 'shared', url: sharer.url, prepareStatements: false, digestKey: Buffer.from('k') })
})
afterAll(async () => {
  await target.close()
  await sharer.close()
  await own.close()
})

it('is refused as long as it does so, and the session is left as it was', async () => {
  const load = () => loadRecord(target, account, parseKeyParts(account, ['1']))
  for (const _ of [1, 2])
    await expect(load()).rejects.toMatchObject({
      code: 'target-unavailable',
      detail: expect.stringMatching(/^The proxy in front of the database of shared hands its sessions round/) as string,
    })
  const other = new pg.Client({ connectionString: sharer.url })
  await other.connect()
  const { rows } = await other.query<Record<string, string>>(
    `select current_setting('default_transaction_read_only') as read, current_setting('lock_timeout') as wait`,
  )
  expect(rows).toEqual([{ read: 'off', wait: '0' }])
  await other.end()
})
