import { IncomingMessage, ServerResponse, type ServerOptions } from 'node:http'
import type { Express } from 'express'

/**
 * Classes of the requests and responses that an application is given. Express sets its own prototype on each that comes, and an object whose
 * prototype was set has a shape that V8 has never seen: every member of it is looked up the slow way, which was a seventh of what a call
 * costs. These have the application's prototypes from the beginning.
 */
export function messagesOf(app: Express): Required<Pick<ServerOptions, 'IncomingMessage' | 'ServerResponse'>> {
  class AppRequest extends IncomingMessage {}
  class AppResponse<Asked extends IncomingMessage> extends ServerResponse<Asked> {}
  app.request = inheriting(AppRequest.prototype, app.request)
  app.response = inheriting(AppResponse.prototype, app.response)
  return { IncomingMessage: AppRequest, ServerResponse: AppResponse }
}

/** Puts another prototype between a class' own and that of its base, which it has to inherit from. */
function inheriting<Extended extends object>(own: object, prototype: Extended): Extended {
  return Object.setPrototypeOf(own, prototype) as Extended
}
