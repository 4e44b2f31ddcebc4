import type { Route } from '../http/route.js'
import { entryRoutes } from './entry-routes.js'
import { healthRoutes } from './health-routes.js'
import { mappingRoutes } from './mapping-routes.js'
import { recordRoutes } from './record-routes.js'
import type { Services } from './services.js'
import { sessionRoutes } from './session-routes.js'
import { tableRoutes } from './table-routes.js'
import { targetRoutes } from './target-routes.js'
import { tokenRoutes } from './token-routes.js'

/** Every call of the interface, in the order the OpenAPI document lists them. */
export function allRoutes(services: Services): Route[] {
  return [
    healthRoutes,
    sessionRoutes,
    tokenRoutes,
    targetRoutes,
    tableRoutes,
    mappingRoutes,
    recordRoutes,
    entryRoutes,
  ].flatMap((routes) => routes(services))
}
