import canonicalize from 'canonicalize'

/** A value as canonical JSON (RFC 8785): one text for each value, so that it can be hashed and signed. */
export function canonicalJson(value: unknown): string {
  return canonicalize(value) ?? 'null'
}
