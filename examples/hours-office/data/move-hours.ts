// Written by Ledgerman from the transaction move-hours, revision 1, with hoursTransfer 1, programme 1. Written again, it is the same: change
// the definition, not this file.
import * as s from './support.js'

export interface MoveHoursParams {
  from: string
  to: string
  hours: string
}

/** How many rows the steps that change matched and changed, and those of each step that has a name. */
export interface MoveHoursResult {
  matched: number
  changed: number
  steps: { both: { matched: number; changed: number }; giver: { matched: number; changed: number }; given: { matched: number; changed: number } }
}

const LIMITS: s.Limits = { isolation: 'read committed', lockWaitMs: 2000, timeLimitMs: 10000, retries: 3, forms: ['DateStyle', 'TimeZone'] }

const STEP_1 = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version::text
from public.programme as t
where (t.code in ($1::text, $2::text))
order by t.code
for no key update of t`

const STEP_2 = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version::text
from public.programme as t
where t.code = $1::text`

/** What has to be true of every programme that is written. */
const RULES: readonly (readonly [that: string, otherwise: string])[] = [
  ['hoursLeft <= hoursGranted', 'A programme cannot have more hours left than it was granted.'],
]

const STEP_4 = `
update public.programme as t
set hours_left = ((t.hours_left - $1::numeric))::numeric(6,2), row_version = t.row_version + 1
where t.code = $2::text and t.hours_left is distinct from ((t.hours_left - $1::numeric))::numeric(6,2)
returning t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version::text, case when not coalesce((t.hours_left <= t.hours_granted), false) then 1 end`

const LOOK_4 = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version::text, true, t.hours_left is distinct from ((t.hours_left - $1::numeric))::numeric(6,2)
from public.programme as t
where t.code = $2::text
for no key update`

const STEP_5 = `
update public.programme as t
set hours_left = ((t.hours_left + $1::numeric))::numeric(6,2), row_version = t.row_version + 1
where t.code = $2::text and t.hours_left is distinct from ((t.hours_left + $1::numeric))::numeric(6,2)
returning true, case when not coalesce((t.hours_left <= t.hours_granted), false) then 1 end`

const LOOK_5 = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version::text, true, t.hours_left is distinct from ((t.hours_left + $1::numeric))::numeric(6,2)
from public.programme as t
where t.code = $2::text
for no key update`

const STEP_6 = `
insert into public.hours_transfer as t (from_code, to_code, hours)
values (($1::text)::text, ($2::text)::text, ($3::numeric)::numeric(6,2))
returning true`


/**
 * Move observing hours from one programme to another.
 *
 * @throws DataError: then nothing was changed, but for OutcomeUnknown
 */
export async function moveHours(db: s.Db, params: MoveHoursParams): Promise<MoveHoursResult> {
  s.assertNames(params, ['from', 'to', 'hours'])
  const p = {
    from: s.given(s.writeValue(s.writeText(null), params.from, 'from'), 'from'),
    to: s.given(s.writeValue(s.writeText(null), params.to, 'to'), 'to'),
    hours: s.given(s.writeValue(s.writeNumeric(null, null), params.hours, 'hours'), 'hours'),
  }
  return s.inTransaction(db, LIMITS, async (client) => {
    s.assertParam(s.textsAre(p.to, '<>', p.from), 'to', ':to <> :from')
    s.assertParam(s.numbersAre(p.hours, '>', '0'), 'hours', ':hours > 0')
    // 1. load programme as both
    const rows1 = await s.ask(client, STEP_1, [p.from, p.to])
    const step1 = s.loadedBy(rows1, {
      what: 'step 1, programme', expect: 2, isKeyed: false, width: 13,
    })

    // 2. load programme as giver
    const step2 = s.loadedBy(s.among(rows1, 13, [[1, p.from]]) ?? (await s.ask(client, STEP_2, [p.from])), {
      what: 'step 2, programme', expect: 'one', isKeyed: true, width: 13,
    })

    // 3. require giver.hoursLeft >= :hours
    if (!s.numbersAre(step2.row[6] ?? null, '>=', p.hours))
      throw new s.RuleBroken(`${step2.row[1] ?? 'null'} has ${step2.row[6] ?? 'null'} hours left, fewer than ${p.hours ?? 'null'}.`, 'giver.hoursLeft >= :hours')

    // 4. change programme as given
    const step4 = await s.writtenOne({
      write: () => s.ask(client, STEP_4, [p.hours, p.from]),
      look: () => s.ask(client, LOOK_4, [p.hours, p.from]),
      what: 'step 4, programme', expect: 'one', isKeyed: true, width: 13,
      rules: RULES, set: [['hoursLeft', 6, s.readText]],
      yours: {}, letter: 'v',
    })

    // 5. change programme
    const step5 = await s.writtenOne({
      write: () => s.ask(client, STEP_5, [p.hours, p.to]),
      look: () => s.ask(client, LOOK_5, [p.hours, p.to]),
      what: 'step 5, programme', expect: 'one', isKeyed: true, width: 13,
      given: 0, rules: RULES, set: [['hoursLeft', 6, s.readText]],
      yours: {}, letter: 'v',
    })

    // 6. add hoursTransfer
    let step6 = s.SKIPPED
    if (s.numbersAre(p.hours, '>=', '10')) {
      step6 = await s.writtenOne({
        write: () => s.ask(client, STEP_6, [p.from, p.to, p.hours]),
        what: 'step 6, hoursTransfer', expect: 'one', isKeyed: true, width: 5,
        given: 0, rules: [], set: [['fromCode', 1, s.readText], ['toCode', 2, s.readText], ['hours', 3, s.readText]],
        yours: {}, letter: 's',
      })
    }

    return {
      matched: step4.matched + step5.matched + step6.matched,
      changed: step4.changed + step5.changed + step6.changed,
      steps: { both: { matched: step1.matched, changed: step1.changed }, giver: { matched: step2.matched, changed: step2.changed }, given: { matched: step4.matched, changed: step4.changed } },
    }
  })
}
