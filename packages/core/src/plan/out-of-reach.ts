/**
 * Functions of PostgreSQL that do what no rollback takes back, end or hold what is not this transaction's, or read the server's files.
 * A fence against mistakes: a function of the users' own may do anything that its owner may.
 *
 * Sources: PostgreSQL 15, sections 9.27 (system administration functions), 35.4 (large objects).
 */
const OUT_OF_REACH = [
  /^pg_(terminate|cancel)_backend$/,
  /^pg_(reload_conf|rotate_logfile|promote|switch_wal|create_restore_point|import_system_collations)$/,
  /^pg_(backup|start_backup|stop_backup|wal_replay|replication|logical|create_\w+_slot|drop_replication|copy_\w+_slot)/,
  /^pg_(read_(binary_)?file|ls_\w*|stat_file|file_\w+|logdir_ls|current_logfile)$/,
  /^pg_(try_)?advisory_(lock|unlock)(_shared|_all)?$/,
  /^pg_(stat_reset\w*|stat_statements_reset|export_snapshot|log_backend_memory_contexts)$/,
  /^lo(_\w+|read|write)$/,
  /^dblink\w*$/,
  /^setval$/,
]

/** Why a parsed statement is not let through; undefined where nothing speaks against it. */
export function whyOutOfReach(node: unknown): string | undefined {
  if (node === null || typeof node !== 'object') return undefined
  for (const [name, value] of Object.entries(node)) {
    const why =
      name === 'RangeVar' || name === 'relation'
        ? whyNotTable(value as RangeVar)
        : name === 'FuncCall'
          ? whyNotFunction(value as FuncCall)
          : undefined
    const found = why ?? whyOutOfReach(value)
    if (found !== undefined) return found
  }
  return undefined
}

interface RangeVar {
  schemaname?: string
  relname?: string
}

interface FuncCall {
  funcname?: { String?: { sval?: string } }[]
  args?: { A_Const?: { boolval?: { boolval?: boolean }; sval?: { sval?: string } } }[]
}

function whyNotTable({ schemaname, relname }: RangeVar): string | undefined {
  return schemaname === 'ledgerman'
    ? `ledgerman.${relname} is the book's own: read it with the book's calls; no step touches it`
    : undefined
}

function whyNotFunction({ funcname = [], args = [] }: FuncCall): string | undefined {
  const names = funcname.map((part) => part.String?.sval ?? '')
  const name = names.at(-1) ?? ''
  if (names.length > 1 && names[0] === 'ledgerman') return `ledgerman.${name}() is the book's own: no step calls it`
  if (name === 'set_config') {
    const [setting, , isLocal] = args
    const named = setting?.A_Const?.sval?.sval ?? ''
    // Triggers and policies go by who acts.
    if (/^ledgerman\./i.test(named)) return `${named} is the run's own: no step sets it`
    if (named.includes('.') && isLocal?.A_Const?.boolval?.boolval === true) return undefined
    return `set_config() is let through only for a setting of your own (a name with a point) and with true as its third argument, so that it ends with the transaction`
  }
  return OUT_OF_REACH.some((pattern) => pattern.test(name))
    ? `${name}() does what no rollback takes back, or reaches beyond this transaction; run it with another tool`
    : undefined
}
