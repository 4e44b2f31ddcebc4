import type { Response } from 'express'
import { printJson, toProblemDocument, type LedgermanProblem } from '@ledgerman/contract'
import type { Reply } from './route.js'

export function sendReply(response: Response, { status, body, headers = {} }: Reply): void {
  response.status(status).set(headers)
  if (body === undefined) response.end()
  else response.type('application/json').send(printJson(body))
}

/** Answers with a problem document (RFC 9457). */
export function sendProblem(response: Response, problem: LedgermanProblem): void {
  const document = toProblemDocument(
    problem.code,
    problem.detail,
    problem.facts,
    response.req.originalUrl.split('?')[0],
  )
  if (problem.code === 'unauthenticated') response.set('www-authenticate', 'Bearer')
  response.status(document.status).type('application/problem+json').send(printJson(document))
}
