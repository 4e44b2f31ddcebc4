import pg from 'pg'
import { Target } from '@ledgerman/core'
import { compare, type Ratio } from '../compare.js'

/** Whether reading a catalogue takes as long a table where there are many as where there are few. */
export async function compareCatalogues(adminUrl: string): Promise<Ratio[]> {
  const few = await targetOf(adminUrl, 'tables_few', 100)
  const many = await targetOf(adminUrl, 'tables_many', 1_000)
  try {
    return await compare(
      [
        {
          name: '100 tables, read ten times',
          once: async () => {
            for (let time = 0; time < 10; time++) await few.tables()
          },
        },
        { name: '1,000 tables, read once', once: () => many.tables() },
      ],
      { callers: 1, slotMs: 2_500, warmUpMs: 1_000, rounds: 5 },
    )
  } finally {
    await Promise.all([few.close(), many.close()])
  }
}

/** A database of tables that refer to one another, as those of an application do. */
async function targetOf(adminUrl: string, name: string, tables: number): Promise<Target> {
  const url = new URL(adminUrl)
  const run = async (text: string) => {
    const client = new pg.Client({ connectionString: url.toString() })
    await client.connect()
    await client.query(text).finally(() => client.end())
  }
  await run(`create database ${name}`)
  url.pathname = `/${name}`
  await run(`do $$ begin for i in 1..${tables} loop
    execute format('create table t%s (id bigint primary key, code text unique not null, name text, hours numeric(8,2) check (hours >= 0),
      parent bigint references t%s, seen timestamptz, tags text[], row_version integer not null)', i, greatest(1, i - 1));
  end loop; end $$`)
  return new Target({ name, url: url.toString(), connections: 2, digestKey: Buffer.from('bench') })
}
