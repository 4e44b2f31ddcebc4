/** The book is read in many small parts: compiling each statement would take longer than running it. */
export const SMALL_STATEMENTS = { jit: 'off' }
