/** The inner and the outer padded key of RFC 2104, as the text form of a bytea[]. */
export function digestKeyPads(key: Buffer): string {
  const padded = Buffer.alloc(64)
  key.copy(padded)
  const pad = (byte: number) => `"\\\\x${Buffer.from(padded.map((each) => each ^ byte)).toString('hex')}"`
  return `{${pad(0x36)},${pad(0x5c)}}`
}
