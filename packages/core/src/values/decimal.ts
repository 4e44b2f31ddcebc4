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
    const text = nearest.toPrecision(digits)
    if (Math.fround(Number(text)) === nearest) return text
  }
  return nearest.toPrecision(9)
}
