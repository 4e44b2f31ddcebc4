/** A number's digits without its ways of writing it: sign, significant digits, power of ten. `1.0`, `1` and `10e-1` are one. */
export function canonicalNumber(text: string): string {
  const [, sign = '', whole = '', fraction = '', exponent = '0'] =
    /^([-+]?)(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d+))?$/.exec(text) ?? []
  const digits = (whole + fraction).replace(/^0+/, '')
  let end = digits.length
  while (digits[end - 1] === '0') end--
  if (end === 0) return '0'
  return `${sign === '-' ? '-' : ''}${digits.slice(0, end)}e${Number(exponent) - fraction.length + (digits.length - end)}`
}

/** The shortest decimal that is this number and no other of four bytes, as PostgreSQL prints a `real`. */
export function shortestReal(value: number): string {
  const nearest = Math.fround(value)
  for (let digits = 1; digits < 9; digits++) {
    const text = roundedToEven(nearest, digits)
    if (Math.fround(Number(text)) === nearest && !isHalfway(Number(text), nearest)) return text
  }
  return nearest.toPrecision(9)
}

/** Whether a number is as near to the next real as to this one: PostgreSQL takes no such text for it, whichever way it would be rounded. */
function isHalfway(value: number, real: number): boolean {
  const bits = new DataView(new ArrayBuffer(4))
  bits.setFloat32(0, real)
  const place = bits.getUint32(0)
  return [place - 1, place + 1].some((neighbour) => {
    bits.setUint32(0, neighbour >>> 0)
    return value === (real + bits.getFloat32(0)) / 2
  })
}

/** A number with so many digits; of two that are as near the one that ends even, as PostgreSQL has it (`toPrecision` takes the greater). */
function roundedToEven(value: number, digits: number): string {
  const up = value.toPrecision(digits)
  const exact = value.toExponential(60)
  const [, first = '', rest = ''] = /^-?(\d)\.(\d+)e/.exec(exact) ?? []
  const all = first + rest
  const isTie = all[digits] === '5' && /^0*$/.test(all.slice(digits + 1))
  if (!isTie || Number(all[digits - 1]) % 2 === 1) return up
  // Cut off instead of rounded up.
  const exponent = /e[-+]\d+$/.exec(exact)?.[0] ?? 'e+0'
  return `${value < 0 ? '-' : ''}${all[0]}.${all.slice(1, digits)}${exponent}`
}
