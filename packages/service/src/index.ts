export { proofTools } from './code/load-code.js'
export { startService } from './service.js'
export { readServiceConfig } from './config/service-config.js'
