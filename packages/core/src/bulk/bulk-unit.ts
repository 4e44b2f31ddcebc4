import { isProblem, LedgermanProblem, type FailedRow, type ProblemCode } from '@ledgerman/contract'
import type { OwnSession } from '../sessions/own-session.js'
import type { Rows } from '../sessions/queryable.js'
import { rowNotWritten } from '../run/record/change-problems.js'
import { blockBits } from '../statement/image-block-sql.js'
import { isExpected, noneLeftOut } from '../run/steps/expectation.js'
import { bindValues, SlotList, type Slot, type SlotSource, type Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import { digestKeyPads } from '../statement/digest-key.js'
import type { BulkStep } from './book-bulk.js'
import { BulkRefused, emptyReport, type BulkEvidence, type BulkRequest, type GivenValue } from './bulk-request.js'
import { GIVEN, HIT, isPredictable, type BulkShape } from './bulk-shape.js'
import { fillHit, isLong, refused, sample, SHOWN_ROWS, survey, unfound, unfoundRows } from './find-statements.js'
import { isOfARow, ofRequest, rememberStatement } from './bulk-errors.js'
import { allOf, toSurvey, type Survey } from './survey.js'
import { KeysUnchecked, type RowRange, type UnitOptions, type UnitResult } from './unit-options.js'
import { inLineOrder, ToldRows } from './told-rows.js'
import type { WorkTables } from './work-tables.js'
import { FoundRows } from './found-rows.js'
import { add, images, stagedStatements, write, writeStaged } from './write-statements.js'

/** Rows that were not applied are told one by one up to so many, of a part that is all or nothing. */
const MOST_FAILED = 10_000

/** How many statements are spent to find out which rows the database refuses, of a part that is all or nothing. */
const MOST_TRIES = 500

/** Among how many rows of a file those are looked for that are shown, where not all of them are written. */
const SAMPLED_ROWS = 1_000

/** One part of a change of many: what is found, judged and written in one transaction. */
export class BulkUnit {
  readonly #rows: FoundRows
  readonly #told: ToldRows
  readonly #report = emptyReport()
  readonly #failed: FailedRow[] = []
  #bits = 0
  /** Whether the images stand in the book already. */
  #hasImages = false
  /** Whether all that was found is to be written, in the snapshot that the writing sees. */
  #isJudged = false
  #tries = 0
  /** Rows that were refused as they were written. */
  readonly #lost = { changes: 0, adds: 0 }
  #changed = 0
  #added = 0

  constructor(
    readonly target: Target,
    readonly tables: WorkTables,
    readonly shape: BulkShape,
    readonly request: BulkRequest,
    readonly options: UnitOptions,
    readonly given: GivenValue,
    /** Whether rows are locked and kept in a table before they are judged. */
    readonly isStaged: boolean,
  ) {
    this.#rows = new FoundRows(shape, isStaged)
    this.#told = new ToldRows(target, shape)
  }

  get session(): OwnSession {
    return this.tables.session
  }

  /** Whether this way of going about it can be taken in a snapshot of its own. */
  static isDirect(shape: BulkShape): boolean {
    if (!isPredictable(shape)) return false
    const [joins, slots] = [shape.newJoins(), new SlotList()]
    shape.condition(joins, slots)
    shape.news(joins, slots)
    return joins.sql === ''
  }

  /**
   * Finds, judges and writes.
   *
   * @throws BulkRefused where it may not stand; what the session throws.
   */
  async run(): Promise<UnitResult> {
    const { request, shape, options } = this
    if (options.areKeysUnchecked && !this.#takesImagesFirst) throw new KeysUnchecked()
    if (this.isStaged) await this.#stage()
    this.#tell('counting')
    const wantsDigest = request.mode === 'rehearse' || options.rehearsed !== undefined || options.isWitnessed === true
    const found = await this.#survey(wantsDigest)
    const evidence = { matched: found.matched, digest: wantsDigest ? found.digest : null }
    await this.#judge(found, evidence)
    if (options.isOnlyJudged) return { report: this.#report, failed: this.#failed, evidence, steps: [] }
    const toChange = found.changed
    this.#isJudged = !this.isStaged && toChange === found.matched
    this.#tell('changing', 0, toChange)
    if (!this.#hasImages) this.#bits = blockBits(toChange + this.#report.notFound, found.bytes * 2)
    const sampled = !this.isStaged && toChange > 0 ? await this.#readSample() : []
    await this.#apply(options.range)
    this.#tellSampled(sampled)
    this.#report.changed = this.#changed + this.#added
    this.#report.added = this.#added
    const toAdd = shape.given?.addsMissing ? this.#report.notFound : 0
    if (toAdd > 0) this.#report.notFound = 0
    if (this.#changed < toChange && this.options.areKeysUnchecked) throw new KeysUnchecked()
    if (this.#changed < toChange - this.#lost.changes || this.#added < toAdd - this.#lost.adds)
      throw this.#refused(rowNotWritten(shape.mapping, shape.kind))
    this.#tell('changing', this.#changed, toChange)
    this.#report.sample = inLineOrder(this.#failed).slice(0, SHOWN_ROWS)
    return { report: this.#report, failed: this.#failed, evidence, steps: this.#steps() }
  }

  async #stage(): Promise<void> {
    this.#tell('locking')
    await this.tables.empty(HIT, this.#rows.hitColumns())
    const { rowCount } = await this.#ask(fillHit(this.#rows))
    await this.tables.filled(HIT, rowCount ?? 0)
  }

  /**
   * Counts. Where nothing stands unless all of it is written, the images are written first: where there are as many as rows were given,
   * nothing else has to be counted.
   */
  async #survey(withDigest: boolean): Promise<Survey> {
    const { range, count } = this.options
    if (this.#takesImagesFirst) {
      this.#bits = blockBits(range.last - range.first + 1, 0)
      const { rows } = await this.#ask(images(this.#rows))
      this.#hasImages = true
      if (Number(rows[0]?.[0]) === count) return allOf(count)
    }
    if (this.options.areKeysUnchecked) throw new KeysUnchecked()
    const { rows } = await this.#ask(survey(this.#rows, withDigest))
    return toSurvey(rows[0])
  }

  get #takesImagesFirst(): boolean {
    const { isStaged, shape, options } = this
    const isWhole = !options.leavesFailed && options.rehearsed === undefined && options.isWitnessed !== true
    return (
      isWhole &&
      !isStaged &&
      options.isBooked &&
      shape.images !== 'none' &&
      shape.given !== null &&
      !this.#rows.kept.some(isLong)
    )
  }

  /** Of a file the first rows are looked at until enough of them are written: they need no sorting. */
  async #readSample(): Promise<Rows['rows']> {
    const { range } = this.options
    const sampled = this.#isJudged ? SHOWN_ROWS : SAMPLED_ROWS
    const last = this.shape.given ? Math.min(range.last, range.first + sampled - 1) : range.last
    return (await this.#ask(sample(this.#rows), { first: range.first, last })).rows
  }

  /** Of the rows that were looked at, the database may have refused some since. */
  #tellSampled(sampled: Rows['rows']): void {
    const lost = new Set(this.#failed.map(({ line }) => line))
    const written = this.#told.rows(sampled.filter(([line]) => line === null || !lost.has(Number(line))))
    this.#report.rows = [...written, ...this.#report.rows].slice(0, SHOWN_ROWS)
  }

  /** Whether what was found may be written at all. */
  async #judge(found: Survey, evidence: BulkEvidence): Promise<void> {
    const { shape, options } = this
    const { mapping, given } = shape
    const report = this.#report
    report.matched = found.matched
    report.refused = found.guardBroken + found.ruleBroken
    report.same = found.matched - found.changed - report.refused
    if (given) await this.#judgeFile()
    const { rehearsed } = options
    if (rehearsed && (rehearsed.matched !== evidence.matched || rehearsed.digest !== evidence.digest))
      throw this.#refused(
        new LedgermanProblem(
          'rehearsal-stale',
          `What was rehearsed is no longer what would be committed: ${rehearsed.matched === evidence.matched ? 'rows were changed since' : `${rehearsed.matched} rows matched then, ${evidence.matched} do now`}. Rehearse again.`,
          { differs: [{ step: 1, what: 'rows differ', matched: evidence.matched }] },
        ),
      )
    if (!found.leavesOut && found.matched > 0)
      throw this.#refused(
        new LedgermanProblem('count-required', `where: ${noneLeftOut(mapping.name, found.matched)}`, {
          matched: found.matched,
          mapping: mapping.name,
          everyRow: true,
        }),
      )
    if (!isExpected(options.expect, found.matched))
      throw this.#refused(this.#told.unexpected(options.expect, found.matched))
    if (report.refused > 0) await this.#readRefused()
    if (this.#failed.length > 0 && !options.leavesFailed) throw this.#refusedForRows()
  }

  async #judgeFile(): Promise<void> {
    const [none, several] = await this.#countUnfound()
    this.#report.notFound = none ?? 0
    this.#report.ambiguous = several ?? 0
    if (this.shape.given?.addsMissing && !several) return
    if (!none && !several) return
    const { rows: unfoundOnes } = await this.#ask(unfoundRows(this.#rows, this.#failedLimit))
    for (const [line, count, ...key] of unfoundOnes) {
      const isMissing = count === '0'
      if (isMissing && this.shape.given?.addsMissing) continue
      this.#failed.push({
        line: Number(line),
        key: this.#told.key(key),
        reason: isMissing ? `There is no such ${this.shape.mapping.name}.` : `${count} records have this key.`,
        code: isMissing ? 'no-such-record' : 'record-ambiguous',
      })
    }
    if (several && this.options.leavesFailed)
      await this.session.query('delete from pg_temp.ledgerman_given where line = any($1::bigint[])', [
        `{${this.#failed.flatMap(({ code, line }) => (code === 'record-ambiguous' ? [line] : [])).join(',')}}`,
      ])
  }

  /** How many rows of the file have no record, and how many more than one. */
  async #countUnfound(): Promise<[none: number, several: number]> {
    const { table } = this.shape.mapping
    const { count } = this.options
    // Each row has a key of its own, and each key one record: those found leave the rest.
    if (table.kind !== 'view' && !table.hasChildren) return [count - this.#report.matched, 0]
    const { rows } = await this.#ask(unfound(this.#rows))
    const [none = 0, several = 0] = (rows[0] ?? []).map(Number)
    return [none, several]
  }

  async #readRefused(): Promise<void> {
    const { mapping } = this.shape
    const { rows } = await this.#ask(refused(this.#rows, this.#failedLimit))
    for (const [line, code, rule, differing, ...key] of rows)
      this.#failed.push({
        line: line === null || line === undefined ? null : Number(line),
        key: this.#told.key(key),
        reason:
          code === 'rule-broken'
            ? (mapping.rules[Number(rule) - 1]?.otherwise ?? 'A rule of the mapping is broken.')
            : this.#told.conflictWords(differing ?? null),
        code: code as ProblemCode,
      })
  }

  /** Writes a range of rows; what the database refuses of it is looked for by halves. */
  async #apply(range: RowRange): Promise<void> {
    const isFile = this.shape.given !== null
    if (!isFile) {
      await this.#write(range)
      await this.session.query('set constraints all immediate')
      return
    }
    if (this.#tries > 0 && !this.options.leavesFailed && this.#hasEnoughFailed) return
    this.#tries++
    const before = [this.#changed, this.#added, this.#report.rows.length] as const
    await this.session.query('savepoint part')
    try {
      await this.#write(range)
      await this.session.query('set constraints all immediate')
      await this.session.query('release savepoint part')
    } catch (error) {
      if (!isOfARow(error)) throw error
      await this.session.query('rollback to savepoint part')
      ;[this.#changed, this.#added] = before
      this.#report.rows.length = before[2]
      if (range.first >= range.last) await this.#fail(range.first, error)
      else {
        const middle = Math.floor((range.first + range.last) / 2)
        await this.#apply({ first: range.first, last: middle })
        await this.#apply({ first: middle + 1, last: range.last })
      }
    }
    const isWhole = range.first === this.options.range.first && range.last === this.options.range.last
    if (isWhole && this.#failed.length > 0 && !this.options.leavesFailed) throw this.#refusedForRows()
  }

  get #hasEnoughFailed(): boolean {
    return this.#failed.length >= SHOWN_ROWS || (this.#tries > MOST_TRIES && this.#failed.length > 0)
  }

  async #write(range: RowRange): Promise<void> {
    const { shape, options } = this
    if (this.isStaged) {
      const { rows } = await this.#ask(writeStaged(this.#rows, options.isBooked), range)
      this.#tellWritten(rows)
      this.#changed += Number(rows[0]?.[0] ?? 0)
    } else {
      if (options.isBooked && shape.images !== 'none' && !this.#hasImages) await this.#ask(images(this.#rows), range)
      const { rowCount } = await this.#ask(write(this.#rows, this.#isJudged), range)
      this.#changed += rowCount ?? 0
    }
    if (!shape.given?.addsMissing || this.#report.notFound === 0) return
    const { rows } = await this.#ask(add(this.#rows, options.isBooked), range)
    this.#tellWritten(rows, true)
    this.#added += Number(rows[0]?.[0] ?? 0)
  }

  /** Takes what a statement that writes gave back: how many rows, how many of them break a rule, the first ones. */
  #tellWritten(rows: Rows['rows'], isAdd = false): void {
    if (Number(rows[0]?.[1] ?? 0) > 0)
      throw new LedgermanProblem('rule-broken', 'A row breaks a rule of the mapping as the database writes it.', {
        mapping: this.shape.mapping.name,
      })
    const told = rows.map((row) => row.slice(2))
    this.#report.rows.push(...this.#told.rows(told, isAdd).slice(0, SHOWN_ROWS - this.#report.rows.length))
  }

  async #fail(no: number, error: unknown): Promise<void> {
    const { mapping, given } = this.shape
    const { rows } = await this.session.query(
      `select g.line, exists (select 1 from ${mapping.table.sql} as t where ${this.#rows.sameKey()}),
  ${mapping.key.map((_, at) => `g.c${at + 1}`).join(', ')} from ${GIVEN} as g where g.no = $1::bigint`,
      [String(no)],
    )
    const [line, isThere, ...key] = rows[0] ?? []
    if (line === undefined || !given) return
    const problem = this.target.explain(error, { mapping })
    if (!isProblem(problem)) throw error
    this.#lost[isThere === 't' ? 'changes' : 'adds']++
    this.#report.refused++
    this.#failed.push({ line: Number(line), key: this.#told.key(key), reason: problem.detail, code: problem.code })
  }

  #refusedForRows(): BulkRefused {
    const [first] = inLineOrder(this.#failed)
    const report = this.#report
    const count = this.shape.given?.addsMissing
      ? this.#failed.length
      : Math.max(this.#failed.length, report.notFound + report.ambiguous + report.refused)
    return this.#refused(this.#told.notApplied(first as FailedRow, count, report.matched))
  }

  #refused(problem: LedgermanProblem): BulkRefused {
    const report = {
      ...this.#report,
      changed: 0,
      added: 0,
      rows: [],
      sample: inLineOrder(this.#failed).slice(0, SHOWN_ROWS),
    }
    return new BulkRefused(problem, report, this.#failed)
  }

  get #failedLimit(): number {
    return this.options.leavesFailed ? 200_000 : MOST_FAILED
  }

  #steps(): BulkStep[] {
    const { shape, options } = this
    const statement = ofRequest(this.isStaged ? stagedStatements(this.#rows) : write(this.#rows, this.#isJudged))
    const step = (kind: BulkStep['kind'], of: Statement, matched: number, changed: number, expected: string) => ({
      kind,
      statement: of,
      binds: this.#values(of, options.range),
      matched,
      changed,
      expected,
    })
    const first = step(shape.kind, statement, this.#report.matched, this.#changed, String(options.expect))
    if (this.#added === 0) return [first]
    return [first, step('add', add(this.#rows, false), this.#added, this.#added, 'any')]
  }

  #ask(asked: Statement, range: RowRange = this.options.range): Promise<Rows> {
    const statement = ofRequest(asked)
    return this.session.query(statement.text, this.#values(statement, range)).catch((error: unknown) => {
      // Where the statement was made of expressions, an error in one of them is told there.
      rememberStatement(error, statement)
      throw error
    })
  }

  #values(statement: Statement, range: RowRange): (string | null)[] {
    return bindValues(statement, (source, slot) => this.#valueOf(source, slot, range))
  }

  #valueOf(source: SlotSource, slot: Slot, range: RowRange): string | null {
    switch (source.from) {
      case 'entry':
        return source.field === 'id' ? this.options.entry : null
      case 'bits':
        return String(this.#bits)
      case 'line':
        return String(range[source.of])
      case 'digest key':
        return digestKeyPads(this.target.digestKey)
      case 'actor':
        return this.request.actor
      case 'literal':
        return source.text
      default:
        return this.given(source, slot)
    }
  }

  #tell(phase: string, rows = 0, total: number | null = null): void {
    this.request.onProgress({ phase, rows, total })
  }
}
