import {
  copyPlace,
  failedParameter,
  failingRow,
  isDeniedFor,
  isStillReferenced,
  keyColumns,
  referredKey,
  waitsInDeadlock,
} from '../../src/sessions/database-words.js'

// As PostgreSQL 15 says them in its languages.
const error = (fields: object) => Object.assign(new Error(), { code: '', ...fields }) as never

describe('what only the words of PostgreSQL tell, in each of its languages', () => {
  it.each([
    `unnamed portal parameter $2 = '7'`,
    'unbenanntes Portal Parameter $2',
    `portal sin nombre, parámetro 2 = '7'`,
    'paramètre de portail non nommé $2',
    `無名ポータルパラメータ $2 = '1 $3'`,
    '이름없는 포탈 $2 매개 변수',
    'неименованный портал, параметр $2',
    'параметр порталу без імені $2',
  ])('is the bind that could not be read: %s', (where) => expect(failedParameter(error({ where }))).toBe(2))

  it.each([
    `SQL statement "update t set n = $1"\nPL/pgSQL function f() line 3 at SQL statement`,
    'SQL-Anweisung »update t set n = $1«',
    'PL/pgSQL function f(integer) line 5 at RAISE',
    'COPY ledgerman_given, line 2',
    undefined,
  ])('is no bind in %s', (where) => expect(failedParameter(error({ where }))).toBeUndefined())

  it.each([
    'COPY ledgerman_given, line 12, column c3: "9 c4"',
    'COPY ledgerman_given, Zeile 12, Spalte c3: »x«',
    'COPY ledgerman_given, línea 12, columna c3',
    'ledgerman_givenのCOPY、行 12、列 c3: "x"',
    'ledgerman_given 복사, 12번째 줄, c3 열: "x"',
    'COPY ledgerman_given, строка 12, столбец c3: "x"',
    'COPY ledgerman_given, 行 12, 列 c3: "x"',
  ])('is the place in a file: %s', (where) =>
    expect(copyPlace(error({ where }), 'ledgerman_given')).toEqual({ line: 12, column: 3 }),
  )
  it('is no place where COPY names no column', () =>
    expect(copyPlace(error({ where: 'COPY ledgerman_given, line 12: "1 c3"' }), 'ledgerman_given')).toBeUndefined())

  it.each([
    'permission denied for table site',
    'keine Berechtigung für Tabelle site',
    'テーブル site へのアクセスが拒否されました',
    'წვდომა აკრძალულია ცხრილზე: "site"',
    'site 테이블에 대한 접근 권한 없음',
    '对表 site 权限不够',
  ])('is what may not be used: %s', (message) => {
    expect(isDeniedFor(error({ message }), 'site')).toBe(true)
    expect(isDeniedFor(error({ message: message.replace('site', 'site_log') }), 'site')).toBe(false)
  })

  it.each([
    'Failing row contains (7, a (b), null).',
    'Fehlgeschlagene Zeile enthält (7, a (b), null).',
    '失敗した行は(7, a (b), null)を含みます',
    '실패한 자료: (7, a (b), null)',
    '失败, 行包含(7, a (b), null).',
  ])('is the row that breaks a constraint: %s', (detail) =>
    expect(failingRow(error({ detail }))).toBe('7, a (b), null'),
  )

  it.each([
    'Key (site, night)=(a)=(b, 1) already exists.',
    'Schlüssel »(site, night)=(a, 1)« existiert bereits.',
    'Ya existe la llave (site, night)=(a, 1).',
    'キー (site, night)=(a, 1) はすでに存在します。',
    '键值"(site, night)=(a, 1)" 已经存在',
  ])('is the key that stands there already: %s', (detail) =>
    expect(keyColumns(error({ detail }))).toEqual(['site', 'night']),
  )

  it.each([
    'Key (site, night)=(a)=(b, 1) is still referenced from table "plan".',
    'Auf Schlüssel (site, night)=(a)=(b, 1) wird noch aus Tabelle »plan« verwiesen.',
    'La llave (site, night)=(a)=(b, 1) todavía es referida desde la tabla «plan».',
    'キー(site, night)=(a)=(b, 1)はまだテーブル"plan"から参照されています',
  ])('is the key that others refer to: %s', (detail) =>
    expect(referredKey(error({ detail }))).toEqual({ columns: ['site', 'night'], values: 'a)=(b, 1' }),
  )

  it.each([
    [
      'insert or update on table "node" violates foreign key constraint "node"',
      'update or delete on table "node" violates foreign key constraint "node" on table "node"',
    ],
    [
      'Einfügen oder Aktualisieren in Tabelle »node« verletzt Fremdschlüssel-Constraint »node«',
      'Aktualisieren oder Löschen in Tabelle »node« verletzt Fremdschlüssel-Constraint »node« von Tabelle »node«',
    ],
    [
      'une instruction insert ou update sur la table « node » viole la contrainte de clé étrangère « node »',
      'UPDATE ou DELETE sur la table « node » viole la contrainte de clé étrangère « node » de la table « node »',
    ],
    [
      'テーブル"node"への挿入、更新は外部キー制約"node"に違反しています',
      'テーブル"node"の更新または削除は、テーブル"node"の外部キー制約"node"に違反します',
    ],
  ])('is the end at which a key to its own table is broken: %s', (missing, referenced) => {
    const fields = { table: 'node', constraint: 'node' }
    const saying = (message: string) => isStillReferenced(Object.assign(error(fields) as Error, { message }) as never)
    expect([saying(missing), saying(referenced)]).toEqual([false, true])
  })

  it.each([
    'Process 12 waits for ShareLock on transaction 751; blocked by process 34.',
    'Prozess 12 wartet auf ShareLock-Sperre auf Transaktion 751; blockiert von Prozess 34.',
    'El proceso 12 espera ShareLock en transacción 751; bloqueado por proceso 34.',
    'Le processus 12 attend ShareLock sur transaction 751 ; bloqué par le processus 34.',
    'プロセス 12 は ShareLock を トランザクション 751 で待機していましたが、プロセス 34 でブロックされました',
    '12 프로세스가 ShareLock 상태로 지연되고 있음(해당 작업: 트랜잭션 751); 34 프로세스에 의해 블록킹되었음',
    '进程12等待在事务 751上的ShareLock; 由进程34阻塞.',
  ])('is who waits for whom: %s', (line) => {
    const waits = waitsInDeadlock(`${line}\n${line}`)
    expect(waits).toHaveLength(2)
    expect(waits[0]).toMatchObject({ pid: 12, blockedBy: 34, lock: expect.stringContaining('ShareLock') as string })
  })
})
