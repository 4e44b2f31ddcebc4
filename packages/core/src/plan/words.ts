import type { Words } from './plan.js'

/** Reads words with places for values: `{giver.code} has {giver.hoursLeft} hours left, fewer than {:hours}.` */
export function parseWords(source: string): Words {
  const parts: Words['parts'] = []
  let at = 0
  for (const found of source.matchAll(
    /\{(?::([\p{L}_][\p{L}\p{N}_]*)|([\p{L}_][\p{L}\p{N}_]*)\.([\p{L}_][\p{L}\p{N}_]*))\}/gu,
  )) {
    if (found.index > at) parts.push(source.slice(at, found.index))
    const [whole, parameter, loaded = '', property = ''] = found
    parts.push(parameter === undefined ? { loaded, property } : { parameter })
    at = found.index + whole.length
  }
  if (at < source.length) parts.push(source.slice(at))
  return { source, parts }
}
