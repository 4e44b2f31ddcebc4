import type { Route } from '../http/route.js'
import { bookRoutes } from './book-routes.js'
import { codeRoutes } from './code-routes.js'
import { reviewRoutes } from './review-routes.js'
import { definitionRoutes } from './definition-routes.js'
import { drillRoutes } from './drill-routes.js'
import { entryRoutes } from './entry-routes.js'
import { findRoutes } from './find-routes.js'
import { healthRoutes } from './health-routes.js'
import { jobRoutes } from './job-routes.js'
import { mappingRoutes } from './mapping-routes.js'
import { metricRoutes } from './metric-routes.js'
import { recordRoutes } from './record-routes.js'
import type { Services } from './services.js'
import { runRoutes } from './run-routes.js'
import { overviewRoutes } from './overview-routes.js'
import { reversalRoutes } from './reversal-routes.js'
import { sessionRoutes } from './session-routes.js'
import { tableRoutes } from './table-routes.js'
import { targetRoutes } from './target-routes.js'
import { tokenRoutes } from './token-routes.js'
import { transactionRoutes } from './transaction-routes.js'
import { waitRoutes } from './wait-routes.js'

/** Every call of the interface. The busiest come first: they are looked for in this order. */
export function allRoutes(services: Services): Route[] {
  return [
    recordRoutes,
    findRoutes,
    runRoutes,
    entryRoutes,
    mappingRoutes,
    transactionRoutes,
    definitionRoutes,
    tableRoutes,
    waitRoutes,
    jobRoutes,
    reversalRoutes,
    bookRoutes,
    codeRoutes,
    reviewRoutes,
    drillRoutes,
    targetRoutes,
    overviewRoutes,
    tokenRoutes,
    sessionRoutes,
    healthRoutes,
    metricRoutes,
  ].flatMap((routes) => routes(services))
}
