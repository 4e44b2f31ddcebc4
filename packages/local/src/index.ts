export { startCluster, removeCluster } from './cluster.js'
export type { Cluster } from './cluster.js'
export { prepareDatabases, demoMappings } from './databases.js'
export { findFreePort } from './ports.js'
