import type { Request } from 'express'
import { oneChunk } from './one-chunk.js'
import type { Reply } from './route.js'

/** RFC 9512. */
export const YAML = 'application/yaml'

/** Ends the entity tag of a definition's text: its JSON is another representation, and has another tag (RFC 9110, section 8.8.1). */
export const YAML_TAG = '.yaml'

/** Whether YAML is asked for rather than JSON. */
export function wantsYaml(request: Request): boolean {
  return request.accepts(['application/json', YAML]) === YAML
}

/** A definition's text as the answer: JSON is YAML too, so it is always the text that was published. */
export function yamlAnswer(text: string, revision?: number): Reply {
  return {
    status: 200,
    stream: { contentType: `${YAML}; charset=utf-8`, chunks: oneChunk(text) },
    headers: { vary: 'accept', ...(revision === undefined ? {} : { etag: `"${revision}${YAML_TAG}"` }) },
  }
}
