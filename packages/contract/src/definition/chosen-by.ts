import { z } from 'zod'
import { checkInput } from '../problem/check-input.js'

/**
 * A union whose member is chosen by looking at the value, so that what is wrong is said of that member and not of all the others.
 *
 * @param choose gives the schema, or what was expected where none fits.
 */
export function chosenBy<Output>(choose: (value: unknown) => z.ZodType<Output> | string) {
  return z.unknown().transform((value, context): Output => {
    const schema = choose(value)
    if (typeof schema === 'string') {
      context.addIssue({ code: 'custom', message: schema, input: value })
      return z.NEVER
    }
    const checked = checkInput(schema, value)
    if (checked.success) return checked.data
    for (const issue of checked.error.issues) context.addIssue({ ...issue, input: value } as never)
    return z.NEVER
  })
}
