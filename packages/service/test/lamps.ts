import type { RunningService } from '../../../testing/running-service.js'

/** Makes a table of lamps, which counts its versions, and its mapping with further lines. */
export async function makeLamps({ observatory, client }: RunningService, more = ''): Promise<void> {
  await observatory.sql(
    'create table lamp (id integer primary key, a integer, b text, row_version integer not null default 1); grant all on lamp to ledgerman_worker',
  )
  await client.target('observatory').publishMapping(
    'lamp',
    `mapping: lamp
table: public.lamp
key: [id]
guard: { by: version, property: rowVersion }
properties: { id: { column: id }, a: { column: a }, b: { column: b }, rowVersion: { column: row_version } }
${more}`,
  )
}
