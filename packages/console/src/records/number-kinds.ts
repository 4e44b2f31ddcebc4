/** Kinds of value that are numbers: they stand at the right of their column. */
export const NUMBER_KINDS = ['integer', 'bigint', 'numeric', 'float', 'money']
