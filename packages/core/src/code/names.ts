import type { ResolvedFind } from '../plan/resolve-find.js'
import type { Mapping } from '../mapping/mapping.js'

/** What a type may not be called in a file: the language's own, and what `support.ts` exports. */
const TAKEN = new Set(
  `Array Boolean Buffer BigInt ClientBase ConstraintBroken CountMismatch DataError Date Db Error Expectation Function Infinity JSON
  Limits Loaded LockTimeout Map Math Number Object OutcomeUnknown Partial Pick Pool Promise Proxy Readonly Read Record RecordAmbiguous
  RecordChanged RecordMissing Reflect RegExp RetriesExhausted Row RowNotWritten RuleBroken Set String Symbol TimeLimit ValueInvalid
  WeakMap WeakSet Write Written NaN Any Unknown Never`.split(/\s+/),
)

/** What a function may not be called: reserved words (ECMA-262, section 12.7.2), and what the files use themselves. */
const RESERVED = new Set(
  `arguments ask async await break case catch class const continue debugger default delete do else enum eval expectCount export extends
  false finally for function guardArray guardText if implements import in inTransaction instanceof interface let namesOf new null package partOf
  private protected public readRecord return static super switch this throw toGuard true try typeof undefined var void while with
  writeValue yield`.split(/\s+/),
)

/** What the functions and types of a mapping are called, and its file. */
export interface MappingNames {
  mapping: Mapping
  /** Such as `Programme`. */
  type: string
  /** Such as `programme.ts`. */
  file: string
  finds: FindNames[]
}

/** What the function of a find that a mapping names is called. */
export interface FindNames {
  find: ResolvedFind
  /** Such as `findProgrammeShortOfHours`. */
  fn: string
  /** The type of its parameters. */
  params: string
  /** The constant that holds its statement. */
  constant: string
}

export interface TransactionNames {
  /** Such as `moveHours`. */
  fn: string
  /** Such as `MoveHours`. */
  type: string
  file: string
}

/** Gives out names, each once: who comes later with one that is taken gets a number behind it. */
export class Names {
  readonly #types = new Set([...TAKEN].map((name) => name.toLowerCase()))
  readonly #functions = new Set(RESERVED)
  readonly #files = new Set(['support', 'index', 'book'])

  mapping(mapping: Mapping, finds: readonly ResolvedFind[] = []): MappingNames {
    const type = firstFree(pascal(mapping.name), (name) => {
      const functions = functionNames(name)
      if (this.#types.has(name.toLowerCase()) || Object.values(functions).some((each) => this.#functions.has(each)))
        return false
      // Its further types, and no other's.
      for (const each of [name, `${name}Changes`, `${name}Key`, `${name}Values`]) this.#types.add(each.toLowerCase())
      for (const each of Object.values(functions)) this.#functions.add(each)
      return true
    })
    return {
      mapping,
      type,
      file: this.#file(mapping.name),
      finds: finds.map((find, at) => this.#find(type, find, at + 1)),
    }
  }

  #find(type: string, find: ResolvedFind, number: number): FindNames {
    const name = firstFree(`${type}${pascal(find.name)}`, (each) => {
      if (this.#functions.has(`find${each}`) || this.#types.has(`${each}params`.toLowerCase())) return false
      this.#functions.add(`find${each}`)
      this.#types.add(`${each}params`.toLowerCase())
      return true
    })
    return { find, fn: `find${name}`, params: `${name}Params`, constant: `FIND_${number}` }
  }

  transaction(name: string): TransactionNames {
    const type = firstFree(pascal(name), (each) => {
      const fn = each.charAt(0).toLowerCase() + each.slice(1)
      if (this.#functions.has(fn) || this.#types.has(`${each}params`.toLowerCase())) return false
      this.#functions.add(fn)
      for (const part of ['Params', 'Result']) this.#types.add(`${each}${part}`.toLowerCase())
      return true
    })
    return { type, fn: type.charAt(0).toLowerCase() + type.slice(1), file: this.#file(name) }
  }

  #file(name: string): string {
    const file = firstFree(kebab(name), (each) => {
      if (this.#files.has(each)) return false
      this.#files.add(each)
      return true
    })
    return `${file}.ts`
  }
}

/** What a mapping's functions are called. */
export function functionNames(type: string) {
  return {
    load: `load${type}`,
    find: `find${type}`,
    change: `change${type}`,
    replace: `replace${type}`,
    add: `add${type}`,
    remove: `remove${type}`,
  }
}

function firstFree(name: string, take: (name: string) => boolean): string {
  if (take(name)) return name
  for (let number = 2; ; number++) if (take(`${name}${number}`)) return `${name}${number}`
}

/** The words of a name, of what an identifier may hold (ECMA-262, section 12.7): a figure such as ² parts them. */
function words(name: string): string[] {
  return name
    .replace(/([\p{Ll}\p{N}])(\p{Lu})/gu, '$1 $2')
    .replace(/(\p{Lu})(\p{Lu}\p{Ll})/gu, '$1 $2')
    .split(/[^\p{ID_Continue}]|_/u)
    .filter(Boolean)
}

function pascal(name: string): string {
  const joined = words(name)
    .map((word) => word.charAt(0).toUpperCase() + word.slice(1))
    .join('')
  return /^\p{ID_Start}/u.test(joined) ? joined : `N${joined}`
}

/** Of plain letters, so that every file system takes it. */
function kebab(name: string): string {
  const joined = words(name)
    .join('-')
    .toLowerCase()
    .normalize('NFKD')
    .replace(/[^a-z0-9-]/g, '')
  return joined.replace(/^-+|(?<!-)-+$/g, '').slice(0, 80) || 'definition'
}
